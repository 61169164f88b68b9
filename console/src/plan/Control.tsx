import type { Key } from "../api";
import { plural } from "../words";
import { AllowanceField, MinutesField, PowerField, SizeField } from "./Amounts";
import { Bursts, Picks } from "./Beside";
import type { Draft } from "./draft";
import { Hours } from "./Hours";
import { parts as partsOf, useKeysOf, word, words } from "./keys";
import { KeyField, RenditionField } from "./KeyField";
import { Carried, Network } from "./Lane";
import { Networks } from "./Networks";
import type { Parts } from "./parts";
import { Places } from "./Places";
import { carrying } from "./taking";

export type Of = {
  path: readonly string[];
  draft: Draft;
  parts: Parts; // of the devices that go by it
  rule: string;
  own?: boolean; // a device's own in the place of a rule's
  pick: (path: string[], says: string) => void;
};

/** The control of the key at a path below a rule. */
export function Control(props: Of) {
  const { path, draft } = props;
  const [first, second] = path;
  switch (first) {
    case "take":
      return <Take draft={draft} />;
    case "to":
      return <Places draft={draft} />;
    case "send":
      return <Send kind={second ?? ""} draft={draft} />;
    case "also":
      return <Picks draft={draft} />;
    case "lanes":
      return <OfLane {...props} />;
    case "gates":
      return <Gate {...props} keys={["gates"]} name={second ?? ""} />;
  }
  return (
    <>
      <Plain path={path} draft={draft} keys={["rules"]} />
      {first === "bursts" && props.rule !== "" && <Bursts rule={props.rule} />}
    </>
  );
}

function Take({ draft }: { draft: Draft }) {
  const take = useKeysOf("rules").find((k) => k.name === "take");
  if (!take) return null;
  return (
    <KeyField
      of={take}
      value={words(draft.whole, "take")}
      change={(value) => {
        const now = value as string[];
        // A lane cannot carry what the rule no longer takes.
        partsOf(draft.whole, "lanes").forEach((l, i) => {
          const carries = carrying(l, now).take;
          if (String(carries ?? "") !== String(l.take ?? "")) draft.set(carries, "lanes", `#${i}`, "take");
        });
        draft.set(now, "take");
      }}
    />
  );
}

function Send({ kind, draft }: { kind: string; draft: Draft }) {
  const send = useKeysOf("rules").find((k) => k.name === "send");
  if (!send) return null;
  return (
    <RenditionField
      of={send}
      name={`${plural(kind).replace(/^./, (c) => c.toUpperCase())} go as`}
      kind={kind === "video" ? "clips" : "pictures"}
      value={draft.at("send", kind)}
      change={(name) => draft.set(name, "send", kind)}
    />
  );
}

/** The control of a lane's key. */
function OfLane(props: Of) {
  const { path, draft } = props;
  const [, lane = "", key = ""] = path;
  const at = ["lanes", lane];
  const value = word(draft.whole, ...at, key);
  const set = (v: unknown) => draft.set(v, ...at, key);
  const label = useKeysOf("rules", "lanes").find((k) => k.name === key)?.label ?? key;
  const title = label.replace(/^./, (c) => c.toUpperCase());
  switch (key) {
    case "":
    case "over":
      return <Network {...props} lane={lane} />;
    case "take":
      return <Carried draft={draft} lane={lane} />;
    case "allowance":
    case "roaming-allowance":
      return <AllowanceField label={title} value={value} change={set} />;
    case "named":
    case "not-named":
      return <Networks label={title} names={words(draft.whole, ...at, key)} change={set} />;
    case "roaming": {
      // What it carries while roaming is said of lanes that roam.
      const also = (v: unknown) => v || draft.set(undefined, ...at, "roaming-allowance");
      return <Plain path={path} draft={draft} keys={["rules", "lanes"]} also={also} />;
    }
    case "gates":
      return <Gate {...props} keys={[...at, "gates"]} name={path[3] ?? ""} own />;
  }
  return <Plain path={path} draft={draft} keys={["rules", "lanes"]} />;
}

/** The control of a gate; own is one that stands in the place of another of the same name. */
function Gate(props: Of & { keys: string[]; name: string }) {
  const { draft, name, own } = props;
  const key = useKeysOf("rules", "gates").find((k) => k.name === name);
  const at = [...props.keys, name];
  const of = {
    label: key?.label ?? name,
    value: word(draft.whole, ...at),
    none: own ? "as the rule has it" : "any",
    any: own,
    change: (v: string) => draft.set(v, ...at),
  };
  switch (name) {
    case "power":
      return <PowerField {...of} none={own ? "as the rule has it" : "on any power"} />;
    case "hours":
      return <Hours {...of} own={own} />;
    case "unused-for":
    case "rest":
      return <MinutesField {...of} />;
  }
  if (!key) return <p>It is written in a former way: leave it, or change it in the text below.</p>;
  return <KeyField of={key} value={draft.at(...at)} own={own} change={(v) => draft.set(v, ...at)} />;
}

/** The control of a key by what may stand behind it. */
function Plain(props: {
  path: readonly string[];
  draft: Draft;
  keys: string[];
  also?: (v: unknown) => void;
}) {
  const { path, draft, keys, also } = props;
  const key: Key | undefined = useKeysOf(...keys).find((k) => k.name === path.at(-1));
  if (!key) return null;
  const of = { label: key.label ?? key.name, value: word(draft.whole, ...path) };
  const change = (v: unknown) => {
    also?.(v);
    draft.set(v, ...path);
  };
  if (key.name === "larger-than") return <SizeField {...of} change={change} />;
  if (key.name === "longer-than") return <MinutesField {...of} none="any" change={change} />;
  return <KeyField of={key} value={draft.at(...path)} change={change} />;
}
