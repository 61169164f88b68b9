import { useMutation } from "@tanstack/react-query";
import { api, body, type Item } from "../api";

/** The limits of a form, as they are typed: keys of a rendition. */
export type Form = { "long-edge": string; megapixels: string; quality: string };

const limits = (f: Form) => ({
  form: Object.fromEntries(
    Object.entries(f)
      .filter(([, typed]) => Number(typed))
      .map(([key, typed]) => [key, Number(typed)]),
  ),
});

/** Makes an item in a form, and shows a detail of both. */
export function useCompare(item: Item) {
  return useMutation({
    mutationFn: ({ form, at }: { form: Form; at: readonly [number, number] }) =>
      body(
        api.POST("/api/v1/items/{device}/{key}/compare", {
          params: { path: { device: item.device, key: item.key } },
          body: { ...limits(form), x: at[0], y: at[1] },
        }),
      ),
  });
}

/** What a form would come to for all that a rule takes of a kind. */
export function useForecast() {
  return useMutation({
    mutationFn: ({ form, rule, kind }: { form: Form; rule: string; kind: string }) =>
      body(
        api.POST("/api/v1/renditions/forecast", {
          body: { ...limits(form), rule, kind: kind === "graphic" ? "graphic" : "photo" },
        }),
      ),
  });
}
