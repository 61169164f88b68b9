import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, body } from "../api";

/** The keeper's orders. The event stream shows what they changed. */

export function usePause(device: string) {
  return useMutation({
    mutationFn: (until?: Date) =>
      body(api.POST("/api/v1/pause", { body: { device, until: until?.toISOString() } })),
  });
}

export function useResume(device: string) {
  return useMutation({ mutationFn: () => body(api.POST("/api/v1/resume", { body: { device } })) });
}

export function useRetry() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (order: { device?: string; items?: string[] }) =>
      body(api.POST("/api/v1/retry", { body: order })),
    onSettled: () => client.invalidateQueries({ queryKey: ["story"] }),
  });
}

export function useSendNow() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (order: { device: string; items: string[]; metered: boolean }) =>
      body(api.POST("/api/v1/send-now", { body: order })),
    onSettled: () => client.invalidateQueries({ queryKey: ["story"] }),
  });
}
