import { Field, Label, Select } from "@headlessui/react";
import type { Key } from "../api";
import { Check, Checks, fieldLook, LinesField, TextField, WordsField } from "../parts/Field";
import { plural } from "../words";
import { usePlan } from "./queries";

type Of = {
  of: Key;
  value: unknown;
  change: (value: unknown) => void;
  /** What stands before its name, where there are several: Way 2. */
  before?: string;
  /** A device's own in the place of a rule's. */
  own?: boolean;
};

/** The words that may stand behind a key, but the one that counts without it. */
const choices = (k: Key) => (k.words ?? []).filter((w) => w.word !== k.default && w.word !== "any");

/** Whether a key is a yes or no. */
export function isCheck(k: Key) {
  const words = choices(k);
  return k.type === "yes" || (!k.list && !k.points && words.length === 1 && !words[0]?.says);
}

function label({ of: k, before, own }: Of) {
  const name = before ? `${before} ${k.label ?? k.name}` : (k.label ?? k.name);
  if (own && k.any) return `${name} (empty for the rule's, any for none)`;
  return k.empty ? `${name} (empty for ${k.empty})` : name;
}

/** The control of one key of the plan, by what may stand behind it. */
export function KeyField(props: Of) {
  const { of: k, value, change, before } = props;
  if (isCheck(k)) {
    const on = k.type === "yes" ? true : choices(k)[0]?.word;
    return (
      <Check
        label={k.label ?? k.name}
        of={before?.toLowerCase()}
        on={value === on}
        change={(is) => change(is ? on : undefined)}
      />
    );
  }
  if (k.points === "rendition") return <RenditionField {...props} />;
  const list = (value as string[] | undefined) ?? [];
  if (k.list && k.words) {
    const name = (w: string) => choices(k).find((c) => c.word === w)?.says ?? plural(w);
    const all = choices(k)
      .map((c) => c.word)
      .filter((w) => w !== "everything");
    const title = k.empty ? `${k.label ?? k.name} (none chosen: ${k.empty})` : (k.label ?? k.name);
    return <Checks title={title} of={all} on={list} label={name} change={change} />;
  }
  const hint = k.examples?.join(", ");
  if (k.list && k.examples?.some((e) => e.includes("*"))) {
    return <LinesField label={k.label ?? k.name} hint={hint} lines={list} change={change} />;
  }
  if (k.list) return <WordsField label={label(props)} hint={hint} words={list} change={change} />;
  if (k.words) {
    return (
      <Choose
        label={k.label ?? k.name}
        value={typeof value === "string" ? value : (k.default ?? "")}
        of={k.words.map((w) => [w.word, w.says ?? w.word])}
        change={change}
      />
    );
  }
  const text = typeof value === "string" || typeof value === "number" ? String(value) : "";
  return (
    <TextField
      label={label(props)}
      type={k.pattern?.startsWith("^[0-9]{4}-") ? "date" : "text"}
      hint={k.examples?.[0]}
      value={text}
      change={(typed) =>
        change(k.type === "number" && typed.trim() !== "" && !isNaN(Number(typed)) ? Number(typed) : typed)
      }
    />
  );
}

/** A choice of one, each with what is said of it. */
export function Choose(props: {
  label: string;
  value: string;
  of: readonly (readonly [string, string])[];
  change: (value: string) => void;
}) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Select className={fieldLook} value={props.value} onChange={(e) => props.change(e.target.value)}>
        {props.of.map(([value, says]) => (
          <option key={value} value={value}>
            {says}
          </option>
        ))}
      </Select>
    </Field>
  );
}

/** A choice of the plan's renditions; not shown while there are none. Only those that say something of a kind. */
export function RenditionField(props: Of & { kind?: "pictures" | "clips"; name?: string }) {
  const renditions = (usePlan().data?.renditions ?? []).filter((r) => !props.kind || r[props.kind]);
  if (renditions.length === 0) return null;
  const name = props.name ?? props.of.label ?? props.of.name;
  return (
    <Choose
      label={props.before ? `${props.before} ${name}` : name}
      value={typeof props.value === "string" ? props.value : ""}
      of={[
        ["", props.of.empty ?? "none"],
        ...renditions.map((r) => [r.name, `${r.name}: ${r.says}`] as const),
      ]}
      change={props.change}
    />
  );
}
