import { Field, Input, Label } from "@headlessui/react";

/** How what is written into looks, and what one is chosen from. */
export const fieldLook = "w-full rounded-md border border-line bg-paper px-3 py-1.5 placeholder:text-quiet";

/** A line of text under its label, with an example of what it may be. */
export function TextField(props: {
  label: string;
  hint?: string;
  type?: string;
  value: string;
  change: (value: string) => void;
}) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Input
        type={props.type ?? "text"}
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
