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

/** A part with another value at a path. */
export function withValue(values: Values, path: readonly string[], value: unknown): Values {
  const [name = "", ...rest] = path;
  if (rest.length === 0) return { ...values, [name]: value };
  return { ...values, [name]: withValue((values[name] as Values | undefined) ?? {}, rest, value) };
}

/** What is typed as a plan has it: nothing for nothing said. */
function said(value: unknown): unknown {
  if (value === "" || value === false || (Array.isArray(value) && value.length === 0)) return undefined;
  return value;
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
