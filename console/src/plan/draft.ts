import { useState } from "react";
import type { PlanEdit } from "../api";
import { at, type Values } from "./keys";

/** What a form has a part of the plan say otherwise: only what the keeper touched. */
export type Draft = {
  /** What a key says, as it would be. */
  at: (...path: string[]) => unknown;
  set: (value: unknown, ...path: string[]) => void;
  /** The whole part, as it would be. */
  whole: Values;
  edits: PlanEdit[];
  /** The part says something else than it did when the form was opened. */
  changedMeanwhile: boolean;
};

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/** A part with another value at a path: of keys, and of places in lists as an edit has them. */
export function withValue<T>(values: T, path: readonly string[], value: unknown): T {
  const [name = "", ...rest] = path;
  if (Array.isArray(values)) {
    if (name === "+") return [...(values as unknown[]), value] as T;
    const n = Number(name.slice(1));
    const list = values as unknown[];
    if (rest.length === 0 && value === undefined) return list.filter((_, i) => i !== n) as T;
    return list.map((one, i) => (i !== n ? one : rest.length > 0 ? withValue(one, rest, value) : value)) as T;
  }
  if (rest.length === 0) return { ...values, [name]: value };
  const part = (values as Values)[name] ?? (rest[0] === "+" ? [] : {});
  return { ...values, [name]: withValue(part, rest, value) };
}

/** What is typed as a plan has it: nothing for nothing said. */
function said(value: unknown): unknown {
  if (value === "" || value === false || (Array.isArray(value) && value.length === 0)) return undefined;
  return value;
}

/** What a device has otherwise than a rule says: lanes are its own as a whole, or the rule's. */
export function useOwnDraft(plan: unknown, device: string, rule: string): Draft {
  const under = ["devices", device, "rules", rule];
  const of = (at(plan, "rules", rule) as Values | undefined) ?? {};
  const own = (at(plan, ...under) as Values | undefined) ?? {};
  const draft = useDraft({ take: of.take, lanes: own.lanes ?? of.lanes, gates: own.gates ?? {} }, under);
  if (own.lanes !== undefined) return draft;
  const ofLanes = (e: PlanEdit) => e.path[under.length] === "lanes";
  if (!draft.edits.some(ofLanes)) return draft;
  const lanes = { path: [...under, "lanes"], value: draft.whole.lanes };
  return { ...draft, edits: [...draft.edits.filter((e) => !ofLanes(e)), lanes] };
}

/** Begins to change the part at a path; values are what it says now, and may change meanwhile. */
export function useDraft(values: Values, under: readonly string[]): Draft {
  const [begun] = useState(values);
  const [changes, setChanges] = useState<{ path: string[]; value: unknown }[]>([]);
  const whole = changes.reduce((part, c) => withValue(part, c.path, c.value), values);
  return {
    at: (...path) => at(whole, ...path),
    set: (value, ...path) =>
      setChanges((before) => [...before.filter((c) => !same(c.path, path)), { path, value }]),
    whole,
    edits: changes
      .filter((c) => !same(said(c.value), at(values, ...c.path)))
      .map((c) => ({ path: [...under, ...c.path], value: c.value })),
    changedMeanwhile: !same(begun, values),
  };
}
