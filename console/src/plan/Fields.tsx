import type { Key } from "../api";
import type { Parts } from "./parts";
import type { Draft } from "./draft";
import { isCheck, KeyField } from "./KeyField";

type Of = {
  keys: readonly Key[];
  draft: Draft;
  /** The key of the part, within the draft, that has these keys. */
  under?: readonly string[];
  parts?: Parts;
};

/** The controls of some keys of a part: what is written in rows, what is yes or no below. A key that a device has no part for is not asked for. */
export function Fields({ keys, draft, under = [], parts }: Of) {
  const shown = keys.filter(
    (k) => k.label && (!k.wants || !parts || parts[k.wants] || draft.at(...under, k.name) !== undefined),
  );
  const field = (k: Key) => (
    <KeyField
      key={k.name}
      of={k}
      value={draft.at(...under, k.name)}
      change={(value) => draft.set(value, ...under, k.name)}
    />
  );
  const checks = shown.filter(isCheck);
  return (
    <>
      <div className="grid items-end gap-3 sm:grid-cols-2">{shown.filter((k) => !isCheck(k)).map(field)}</div>
      {checks.length > 0 && <div className="flex flex-wrap gap-x-5 gap-y-2">{checks.map(field)}</div>}
    </>
  );
}
