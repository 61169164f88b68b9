import type { PlanEdit } from "../api";
import { words, type Values } from "./keys";

/** A lane that carries nothing but what is taken. */
export function carrying(lane: Values, take: readonly string[]): Values {
  const carries = words(lane, "take").filter((k) => take.includes(k));
  return carries.length > 0 ? { ...lane, take: carries } : { ...lane, take: undefined };
}

/** Has the rule of a set-up take other kinds: its lanes carry no others. */
export function taking(take: readonly string[], lanes: readonly Values[]): PlanEdit[] {
  const path = ["rules", "everyday"];
  return [
    { path: [...path, "take"], value: take },
    { path: [...path, "lanes"], value: lanes.map((l) => carrying(l, take)) },
  ];
}
