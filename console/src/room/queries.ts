import { skipToken, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, body, type RoomAsked } from "../api";

/** How much room is on each device. */
export function useRoom() {
  return useQuery({
    queryKey: ["room"],
    queryFn: () => body(api.GET("/api/v1/room")),
    refetchInterval: 15_000,
  });
}

/** What would go; asked is undefined while it cannot be asked. */
export function useRoomPlan(asked: RoomAsked | undefined) {
  return useQuery({
    queryKey: ["room plan", asked],
    queryFn: asked ? () => body(api.POST("/api/v1/room/plan", { body: asked })) : skipToken,
    retry: false,
  });
}

/** What went from a device, or lies in its holding place, the newest first. */
export function useWent(device: string, held: boolean) {
  return useQuery({
    queryKey: ["room", device, held],
    queryFn: () => body(api.GET("/api/v1/room/ledger", { params: { query: { device, held, limit: 50 } } })),
  });
}

/** Puts items back where they lay: these, or all without any. */
export function useTakeBack(device: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (items: string[]) => body(api.POST("/api/v1/room/take-back", { body: { device, items } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["room"] }),
  });
}
