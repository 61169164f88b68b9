import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, body, type Story } from "../api";
import type { gates, kinds, QueueSearch, states } from "./search";

const pageSize = 100;

/** Pages of the queue under the filters of the address. */
export function useItems({ device, state, kind, hold, destination }: QueueSearch) {
  return useInfiniteQuery({
    queryKey: ["items", { device, state, kind, hold, destination }],
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/items", {
          params: {
            query: {
              device,
              state: state as (typeof states)[number],
              kind: kind as (typeof kinds)[number],
              hold: hold as (typeof gates)[number],
              destination,
              after: pageParam || undefined,
              limit: pageSize,
            },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
}

/** One item and all that happened to it. */
export function useStory(device: string, key: string) {
  return useQuery({
    queryKey: ["story", device, key],
    queryFn: () =>
      body(api.GET("/api/v1/items/{device}/{key}", { params: { path: { device, key } } })) as Promise<Story>,
  });
}
