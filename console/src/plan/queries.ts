import {
  keepPreviousData,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, body, ServiceError, type Plan, type PlanEdits } from "../api";

/** What the keeper asks of the plan and its versions. */

const key = ["plan"];

/** The plan in force; null before the first. The event stream has it asked for anew (see useStream). */
export function usePlan() {
  return useQuery({
    queryKey: key,
    queryFn: async (): Promise<Plan | null> => {
      try {
        return await body(api.GET("/api/v1/plan"));
      } catch (e) {
        if (e instanceof ServiceError && e.status === 404) return null;
        throw e;
      }
    },
  });
}

/** The plan's versions as they are at the one that is in force. */
export function useHistory(now: number) {
  return useInfiniteQuery({
    queryKey: ["versions", now],
    placeholderData: keepPreviousData,
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      body(api.GET("/api/v1/plan/versions", { params: { query: { before: pageParam } } })),
    getNextPageParam: (page) => {
      const last = page.at(-1)?.version ?? 1;
      return last > 1 ? last : undefined;
    },
  });
}

/** The shots in a row among what a rule takes. */
export function useBursts(rule: string, shown: boolean) {
  return useQuery({
    queryKey: ["bursts", rule],
    enabled: shown,
    staleTime: Infinity,
    queryFn: () => body(api.GET("/api/v1/bursts", { params: { query: { rule } } })),
  });
}

export function useDiff(to: number, shown: boolean) {
  return useQuery({
    queryKey: ["diff", to],
    enabled: shown,
    staleTime: Infinity,
    queryFn: () => body(api.GET("/api/v1/plan/diff", { params: { query: { from: to - 1, to } } })),
  });
}

/** What the folders and the rules of the plan hold; not counted more often than it is looked at. */
export function useHeld() {
  return useQuery({
    queryKey: ["held"],
    staleTime: 20_000,
    refetchInterval: 60_000,
    queryFn: () => body(api.GET("/api/v1/plan/held")),
  });
}

/** A value once nothing changed of it for a moment. */
function useSettled(value: string): string {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), 500);
    return () => clearTimeout(timer);
  }, [value]);
  return settled;
}

/** What edits would change, told as soon as no more of them comes. */
export function useTried(asked: PlanEdits, ready: boolean) {
  const now = JSON.stringify(asked);
  const settled = useSettled(now);
  const tried = useQuery({
    queryKey: ["tried", settled],
    enabled: ready && settled === now,
    staleTime: Infinity,
    gcTime: 0,
    retry: false,
    queryFn: () => sendEdits({ ...(JSON.parse(settled) as PlanEdits), try: true }),
  });
  const is = ready && settled === now;
  return {
    told: is ? tried.data : undefined,
    error: is ? tried.error : null,
    looking: ready && !(is && tried.isFetched),
  };
}

/** What everybody who changes the plan does then: all that is shown of it is asked for anew. */
function useAnew() {
  const client = useQueryClient();
  return () => void client.invalidateQueries({ queryKey: key });
}

export function useTry() {
  return useMutation({
    mutationFn: (text: string) => body(api.POST("/api/v1/plan/try", { body: { text } })),
  });
}

export function useApply() {
  const anew = useAnew();
  return useMutation({
    mutationFn: (change: { text: string; base: number }) => body(api.PUT("/api/v1/plan", { body: change })),
    onSuccess: anew,
  });
}

/** The usual folders of a device; none of one that does not run here. */
export function useUsual(device: string) {
  return useQuery({
    queryKey: ["usual", device],
    enabled: device !== "",
    retry: false,
    queryFn: () => body(api.GET("/api/v1/devices/{device}/folders", { params: { path: { device } } })),
  });
}

export const sendEdits = (edits: PlanEdits) => body(api.POST("/api/v1/plan/edits", { body: edits }));

/** Puts edits in force. */
export function useEdit() {
  const anew = useAnew();
  return useMutation({ mutationFn: (edits: PlanEdits) => sendEdits(edits), onSuccess: anew });
}

export function useUndo() {
  const anew = useAnew();
  return useMutation({
    mutationFn: (to: { to: number; base: number }) => body(api.POST("/api/v1/plan/undo", { body: to })),
    onSuccess: anew,
  });
}
