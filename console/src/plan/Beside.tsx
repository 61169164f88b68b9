import { useState } from "react";
import { Button } from "../parts/Button";
import { Face } from "../parts/Face";
import { Failure } from "../parts/Failure";
import { taken } from "../words";
import type { Draft } from "./draft";
import { parts, useKeysOf, type Values } from "./keys";
import { KeyField } from "./KeyField";
import { useBursts } from "./queries";

/** What carries a mark goes under a second layout, too. */
export function Picks({ draft }: { draft: Draft }) {
  const picks = useKeysOf("rules", "also");
  const also = parts(draft.whole, "also");
  const put = (i: number, change: Values) =>
    draft.set(
      also.map((a, at) => (at === i ? { ...a, ...change } : a)),
      "also",
    );
  return (
    <div className="space-y-3">
      {also.map((a, i) => (
        <div key={i} className="grid items-end gap-3 sm:grid-cols-[1fr_1.5fr_auto]">
          {picks.map((k) => (
            <KeyField
              key={k.name}
              of={k}
              before={k.name === "when" ? `Pick ${i + 1}:` : `Pick ${i + 1}`}
              value={a[k.name]}
              change={(value) => put(i, { [k.name]: value })}
            />
          ))}
          <span>
            <Button
              onClick={() =>
                draft.set(
                  also.filter((_, at) => at !== i),
                  "also",
                )
              }
              aria-label={`Take out pick ${i + 1}`}
            >
              Take out
            </Button>
          </span>
        </div>
      ))}
      <Button
        onClick={() => draft.set([...also, { when: "rated 4", layout: "picks/{year}/{caption}" }], "also")}
      >
        Pick by a mark
      </Button>
    </div>
  );
}

/** The bursts that there are, before clips of them are made. */
export function Bursts({ rule }: { rule: string }) {
  const [shown, setShown] = useState(false);
  const found = useBursts(rule, shown);
  const all = (found.data ?? []).flatMap((d) => d.bursts.map((b) => ({ ...b, device: d.device })));
  return (
    <div className="space-y-2">
      {!shown && <Button onClick={() => setShown(true)}>Show the bursts</Button>}
      <div aria-live="polite">
        {shown && found.isPending && <p className="text-sm text-quiet">Looking for shots in a row…</p>}
        <Failure error={found.error} />
        {found.data && all.length === 0 && (
          <p className="text-sm text-quiet">No shots in a row among what it takes.</p>
        )}
        <ul>
          {all.map((b) => (
            <li key={b.device + b.key} className="flex items-center gap-3 py-1 text-sm">
              <Face device={b.device} item={b.key} kind="photo" className="size-10" />
              <span className="min-w-0 wrap-anywhere">
                {b.n} shots on {b.device}, {taken(b.takenAt)}: {b.first} to {b.last}
              </span>
            </li>
          ))}
        </ul>
        {found.data
          ?.filter((d) => d.says)
          .map((d) => (
            <p key={d.device} className="text-sm text-quiet">
              {d.device}: {d.says}
            </p>
          ))}
      </div>
    </div>
  );
}
