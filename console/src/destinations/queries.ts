import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, body, type Draft } from "../api";

/** What the keeper asks of storages. */

export function useTry() {
  return useMutation({
    mutationFn: (draft: Draft) => body(api.POST("/api/v1/destinations/try", { body: draft })),
  });
}

export function useBrowse() {
  return useMutation({
    mutationFn: (ask: { draft: Draft; folder: string; make?: boolean }) =>
      body(
        api.POST("/api/v1/destinations/browse", {
          body: { ...ask.draft, folder: ask.folder, make: ask.make },
        }),
      ),
  });
}

export function useAdd() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (draft: Draft) => body(api.POST("/api/v1/destinations", { body: draft })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["yard"] }),
  });
}

const at = (name: string) => ({ params: { path: { name } } });

/** Where items would land by a layout. */
export function useLandings(destination: string) {
  return useMutation({
    mutationFn: (layout: string) =>
      body(api.POST("/api/v1/plan/landings", { body: { destination, layout } })),
  });
}

export function useTest(name: string) {
  return useMutation({ mutationFn: () => body(api.POST("/api/v1/destinations/{name}/test", at(name))) });
}

export function useAdopt(name: string) {
  return useMutation({ mutationFn: () => body(api.POST("/api/v1/destinations/{name}/adopt", at(name))) });
}

export function useProve(destination: string) {
  return useMutation({ mutationFn: () => body(api.POST("/api/v1/prove", { body: { destination } })) });
}

export function usePlace(name: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (is: "moved" | "new") =>
      body(api.POST("/api/v1/destinations/{name}/place", { ...at(name), body: { is } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["yard"] }),
  });
}

export function useRemove(name: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/destinations/{name}", at(name))),
    onSuccess: () => client.invalidateQueries({ queryKey: ["yard"] }),
  });
}
