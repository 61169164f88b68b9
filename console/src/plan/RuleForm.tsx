import { plural } from "../words";
import { Beside } from "./Beside";
import type { Draft } from "./draft";
import { Fields } from "./Fields";
import { parts as partsOf, useKeysOf, words } from "./keys";
import { KeyField, RenditionField } from "./KeyField";
import { Lanes } from "./Lanes";
import type { Parts } from "./parts";
import { Places } from "./Places";
import { usePlan } from "./queries";
import { carrying } from "./taking";

/** The keys of a rule that have a place of their own in its form; every other has a field. */
const placed = ["take", "to", "send", "companions", "previews", "also", "bursts", "lanes", "gates"];

/** What a rule takes, where and which way it goes, on which power and when. */
export function RuleForm({ draft, parts, rule }: { draft: Draft; parts: Parts; rule?: string }) {
  const keys = useKeysOf("rules");
  const gates = useKeysOf("rules", "gates");
  const key = (name: string) => keys.find((k) => k.name === name);
  const take = words(draft.whole, "take");
  const takeKey = key("take");
  const companions = key("companions");
  return (
    <>
      {takeKey && (
        <KeyField
          of={takeKey}
          value={take}
          change={(value) => {
            const now = value as string[];
            draft.set(now, "take");
            // A lane cannot carry what the rule no longer takes.
            const lanes = partsOf(draft.whole, "lanes").map((l) => carrying(l, now));
            draft.set(lanes, "lanes");
          }}
        />
      )}
      <Places draft={draft} />
      <Forms take={take} draft={draft} />
      {companions && (
        <KeyField
          of={companions}
          value={draft.at("companions")}
          change={(value) => draft.set(value, "companions")}
        />
      )}
      <Beside draft={draft} rule={rule} />
      <Lanes
        lanes={partsOf(draft.whole, "lanes")}
        take={take}
        parts={parts}
        change={(lanes) => draft.set(lanes, "lanes")}
      />
      <Fields keys={gates} under={["gates"]} draft={draft} parts={parts} />
      <Fields keys={keys.filter((k) => !placed.includes(k.name))} draft={draft} parts={parts} />
    </>
  );
}

/** In which form each kind goes that can be reduced. */
function Forms({ take, draft }: { take: string[]; draft: Draft }) {
  const send = useKeysOf("rules").find((k) => k.name === "send");
  const kinds = (send?.words ?? []).map((w) => w.word).filter((k) => take.includes(k));
  const some = (usePlan().data?.renditions ?? []).length > 0;
  if (!send || kinds.length === 0 || !some) return null;
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      {kinds.map((k) => (
        <RenditionField
          key={k}
          of={send}
          name={`${plural(k).replace(/^./, (c) => c.toUpperCase())} go as`}
          kind={k === "video" ? "clips" : "pictures"}
          value={draft.at("send", k)}
          change={(name) => draft.set(name, "send", k)}
        />
      ))}
    </div>
  );
}
