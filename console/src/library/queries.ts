import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { api, body, type FoundItem } from "../api";
import { query, type Question } from "./question";

export const pageSize = 120;

/** How much a question finds, month by month; asked again every few seconds while the page is open. */
export function useFound(q: Question) {
  return useQuery({
    queryKey: ["library", query(q)],
    queryFn: () => body(api.GET("/api/v1/library", { params: { query: query(q) as never } })),
    placeholderData: keepPreviousData,
    refetchInterval: 5000,
  });
}

/** The items that stand at some places of what was found, as far as they came. */
export function useItemsAt(q: Question, version: string | undefined, from: number, to: number) {
  const pages: number[] = [];
  if (version !== undefined) {
    for (let p = Math.floor(from / pageSize); p * pageSize < to; p++) pages.push(p);
  }
  const answers = useQueries({
    queries: pages.map((p) => ({
      queryKey: ["library items", query(q), version, p],
      queryFn: () =>
        body(
          api.GET("/api/v1/library/items", {
            params: { query: { ...query(q), offset: p * pageSize, limit: pageSize } as never },
          }),
        ),
      staleTime: Infinity,
      gcTime: 60_000,
    })),
  });
  return (index: number): FoundItem | undefined => {
    const p = pages.indexOf(Math.floor(index / pageSize));
    return answers[p]?.data?.items[index % pageSize];
  };
}
