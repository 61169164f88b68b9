import { Button } from "../parts/Button";
import { Check } from "../parts/Field";
import { plural } from "../words";
import { Chips } from "./Chips";
import type { Of } from "./Control";
import type { Draft } from "./draft";
import { at, unsaidGates, useKeysOf, word, words, type Values } from "./keys";
import { Choose } from "./KeyField";

/** The keys that lanes over one kind of network have, and the others have not. */
const only: Record<string, readonly string[]> = {
  cellular: ["roaming", "roaming-allowance", "metered-wifi"],
  wifi: ["metered", "named", "not-named", "home-only"],
  wired: ["metered"],
};

const mayHave = (over: string, key: string) =>
  only[over]?.includes(key) || !Object.values(only).some((keys) => keys.includes(key));

/** Over which network a lane goes, what more may be said of it, and its end. */
export function Network({ lane, draft, parts, pick }: Of & { lane: string }) {
  const keys = useKeysOf("rules", "lanes");
  const gates = useKeysOf("rules", "gates");
  const networks = keys.find((k) => k.name === "over")?.words ?? [];
  const now = at(draft.whole, "lanes", lane) as Values | undefined;
  const over = word(now, "over");
  const added = lane === "+";
  if (!now && !added) return <p>This way is taken out.</p>;
  const choose = (to: string) => {
    if (added) return draft.set({ over: to }, "lanes", "+");
    for (const key of Object.keys(now ?? {})) {
      if (!mayHave(to, key)) draft.set(undefined, "lanes", lane, key); // what only the other has goes with it
    }
    draft.set(to, "lanes", lane, "over");
  };
  const unsaid = keys.filter(
    (k) =>
      k.label &&
      k.name !== "send" &&
      now?.[k.name] === undefined &&
      mayHave(over, k.name) &&
      (k.name !== "roaming-allowance" || now?.roaming === true),
  );
  return (
    <>
      <Choose
        label={added ? "Also over" : "Goes over"}
        value={
          added ? word(draft.whole, "lanes", `#${(draft.whole.lanes as unknown[]).length - 1}`, "over") : over
        }
        of={networks
          .filter((w) => parts.modem || w.word !== "cellular" || over === "cellular")
          .map((w) => [w.word, w.says ?? w.word])}
        change={choose}
      />
      {!parts.modem && over === "cellular" && (
        <p className="text-sm text-quiet">No device that goes by it has a modem.</p>
      )}
      {!added && (
        <>
          <Chips
            label="More of this way"
            list={[
              ...(words(now, "take").length === 0 ? [["take", "some kinds only"] as const] : []),
              ...unsaid.map((k) => [k.name, k.label ?? k.name] as const),
              ...unsaidGates(gates, parts, (name) => at(now, "gates", name) !== undefined).map(
                ([key, says]) => [key, `${says} of its own`] as const,
              ),
            ]}
            pick={(key, says) => pick(["lanes", lane, ...key.split("/")], says)}
          />
          {(draft.whole.lanes as unknown[]).length > 1 && (
            <Button onClick={() => draft.set(undefined, "lanes", lane)}>Take out this way</Button>
          )}
        </>
      )}
    </>
  );
}

/** Which of the kinds that the rule takes go by a lane: all, when none is named. */
export function Carried({ draft, lane }: { draft: Draft; lane: string }) {
  const take = words(draft.whole, "take");
  const carries = words(draft.whole, "lanes", lane, "take");
  const goes = (k: string) => carries.length === 0 || carries.includes(k);
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-quiet">Goes this way</legend>
      <div className="flex flex-wrap gap-x-5 gap-y-2">
        {take.map((k) => (
          <Check
            key={k}
            label={plural(k)}
            on={goes(k)}
            change={() => {
              const now = take.filter((o) => (o === k ? !goes(k) : goes(o)));
              draft.set(now.length === take.length ? undefined : now, "lanes", lane, "take");
            }}
          />
        ))}
      </div>
    </fieldset>
  );
}
