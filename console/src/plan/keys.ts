import { useQuery } from "@tanstack/react-query";
import { api, body, type Key, type PlanEdit } from "../api";
import type { Parts } from "./parts";

/** The keys of the plan, as the service describes them: forms are made from them. */

/** A part of the plan, in the form of JSON: key by key. */
export type Values = Record<string, unknown>;

export function useKeys() {
  return useQuery({
    queryKey: ["keys"],
    staleTime: Infinity,
    queryFn: () => body(api.GET("/api/v1/plan/keys")),
  });
}

/** The keys of the part at a path of keys, but those of earlier plans; none while they are not known. */
export function useKeysOf(...path: string[]): Key[] {
  let keys = useKeys().data ?? [];
  for (const name of path) keys = keys.find((k) => k.name === name)?.keys ?? [];
  return keys.filter((k) => !k.former);
}

/** What stands at a path of a part. */
export function at(values: unknown, ...path: readonly string[]): unknown {
  let is = values;
  for (const name of path) {
    if (is === null || typeof is !== "object") return undefined;
    is = name.startsWith("#") ? (is as unknown[])[Number(name.slice(1))] : (is as Values)[name];
  }
  return is;
}

/** The edit that adds to a list of a device, which the plan may not name yet. */
export function adding(plan: unknown, device: string, key: string, value: unknown): PlanEdit {
  const path = ["devices", device];
  if (at(plan, ...path, key) !== undefined) return { path: [...path, key, "+"], value };
  if (at(plan, ...path) !== undefined) return { path: [...path, key], value: [value] };
  return { path, value: { sources: [], [key]: [value] }, new: true };
}

/** A list of words of a part; empty when it says none. */
export const words = (values: unknown, ...path: readonly string[]) =>
  (at(values, ...path) as string[] | undefined) ?? [];

/** A list of parts of a part; empty when it says none. */
export const parts = (values: unknown, ...path: readonly string[]) =>
  (at(values, ...path) as Values[] | undefined) ?? [];

/** A word of a part; empty when it says none. A number as a person types it. */
export function word(values: unknown, ...path: readonly string[]): string {
  const is = at(values, ...path);
  return typeof is === "string" || typeof is === "number" ? String(is) : "";
}

/** What a key is called where there is little room: its label, or its name where the label is a sentence. */
export function shortly(k: Key): string {
  if (k.label && k.label.length < 28) return k.label;
  return k.name.replaceAll("-", " ").replace(/^./, (c) => c.toUpperCase());
}

/** The gates that a part does not say yet and its devices have parts for: the path of each below it, and what it is called. */
export const unsaidGates = (gates: readonly Key[], parts: Parts, said: (name: string) => boolean) =>
  gates
    .filter((k) => !said(k.name) && (!k.wants || parts[k.wants]))
    .map((k): [string, string] => [`gates/${k.name}`, shortly(k)]);
