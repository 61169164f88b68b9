import { Field, Input, Label, Textarea } from "@headlessui/react";
import { useState } from "react";

/** How what is written into looks, and what one is chosen from. */
export const fieldLook = "w-full rounded-md border border-line bg-paper px-3 py-1.5 placeholder:text-quiet";

/** A line of text under its label, with an example of what it may be. */
export function TextField(props: {
  label: string;
  hint?: string;
  type?: string;
  autoComplete?: string;
  required?: boolean;
  value: string;
  change: (value: string) => void;
}) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Input
        type={props.type ?? "text"}
        autoComplete={props.autoComplete}
        required={props.required}
        className={fieldLook}
        placeholder={props.hint && `such as ${props.hint}`}
        value={props.value}
        onChange={(e) => props.change(e.target.value)}
      />
    </Field>
  );
}

/** A yes or no; of is whose it is, for who does not see where it stands. */
export function Check(props: { label: string; of?: string; on: boolean; change: (on: boolean) => void }) {
  return (
    <label className="flex items-center gap-2">
      <input
        type="checkbox"
        checked={props.on}
        onChange={() => props.change(!props.on)}
        className="size-4 accent-tide"
      />
      {props.label}
      {props.of && <span className="sr-only"> ({props.of})</span>}
    </label>
  );
}

/** Some of a few, each a yes or no. */
export function Checks(props: {
  title: string;
  of: readonly string[];
  on: readonly string[];
  label: (one: string) => string;
  change: (on: string[]) => void;
}) {
  const { of, on } = props;
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-quiet">{props.title}</legend>
      <div className="flex flex-wrap gap-x-5 gap-y-2">
        {of.map((one) => (
          <Check
            key={one}
            label={props.label(one)}
            on={on.includes(one)}
            change={(is) => props.change(of.filter((o) => (o === one ? is : on.includes(o))))}
          />
        ))}
      </div>
    </fieldset>
  );
}

const trimmed = (list: string[]) => list.map((w) => w.trim()).filter((w) => w !== "");

/** Words with commas between. */
export function WordsField(props: {
  label: string;
  hint?: string;
  words: readonly string[];
  change: (words: string[]) => void;
}) {
  const [text, setText] = useState(props.words.join(", "));
  return (
    <TextField
      label={props.label}
      hint={props.hint}
      value={text}
      change={(typed) => {
        setText(typed);
        props.change(trimmed(typed.split(",")));
      }}
    />
  );
}

/** Words that may have commas: one on each line. */
export function LinesField(props: {
  label: string;
  hint?: string;
  lines: readonly string[];
  change: (lines: string[]) => void;
}) {
  const [text, setText] = useState(props.lines.join("\n")); // an empty line is one that is being written
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label} (one on each line)</Label>
      <Textarea
        rows={3}
        className={`${fieldLook} font-mono text-sm`}
        placeholder={props.hint && `such as ${props.hint}`}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          props.change(trimmed(e.target.value.split("\n")));
        }}
      />
    </Field>
  );
}
