import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, body, type FinishOrder } from "../api";

/** What the keeper asks of devices elsewhere. */

const at = (device: string) => ({ params: { path: { device } } });

/** Where the service listens for devices elsewhere. */
export function useHomeNetwork() {
  return useQuery({
    queryKey: ["home-network"],
    queryFn: () => body(api.GET("/api/v1/home-network")),
  });
}

export function useSetHomeNetwork() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (address: string) => body(api.PUT("/api/v1/home-network", { body: { address } })),
    onSuccess: (is) => client.setQueryData(["home-network"], is),
  });
}

export function useNewCode() {
  return useMutation({
    mutationFn: (device: string) => body(api.POST("/api/v1/devices/{device}/code", at(device))),
  });
}

/** Lets a device sleep, or go off, when nothing more can go; "" takes that back. */
export function useFinish(device: string) {
  return useMutation({
    mutationFn: (then: FinishOrder["then"]) => body(api.POST("/api/v1/finish", { body: { device, then } })),
  });
}

/** Lets a device go; told is told of what it held, also when its card is gone by then. */
export function useRevoke(device: string, told: (says: string) => void) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => body(api.POST("/api/v1/devices/{device}/revoke", at(device))),
    onSuccess: (r) => {
      told(r.says);
      return client.invalidateQueries({ queryKey: ["yard"] });
    },
  });
}

/** Calls a device otherwise, here, in the plan and there. */
export function useRename(device: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (to: string) =>
      body(api.POST("/api/v1/devices/{device}/rename", { ...at(device), body: { to } })),
    onSuccess: () => client.invalidateQueries(),
  });
}

/** What a device sensed and sent in a day, such as 2026-11-25; "" is today. */
export function useDay(device: string, day: string) {
  return useQuery({
    queryKey: ["day", device, day],
    queryFn: () =>
      body(
        api.GET("/api/v1/devices/{device}/day", {
          params: { path: { device }, query: day ? { day } : {} },
        }),
      ),
  });
}
