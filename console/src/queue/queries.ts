import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, body, type Story } from "../api";
import type { gates, kinds, QueueSearch, states } from "./search";

const pageSize = 100;

/** Pages of the queue under the filters of the address. */
export function useCopies({ device, state, kind, hold }: QueueSearch) {
  return useInfiniteQuery({
    queryKey: ["copies", { device, state, kind, hold }],
    queryFn: ({ pageParam }) =>
      body(
        api.GET("/api/v1/copies", {
          params: {
            query: {
              device,
              state: state as (typeof states)[number],
              kind: kind as (typeof kinds)[number],
              hold: hold as (typeof gates)[number],
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

/** One copy and all that happened to it. */
export function useStory(device: string, id: number) {
  return useQuery({
    queryKey: ["story", device, id],
    queryFn: () =>
      body(api.GET("/api/v1/copies/{device}/{id}", { params: { path: { device, id } } })) as Promise<Story>,
  });
}
