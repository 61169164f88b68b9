import { Field, Input, Label } from "@headlessui/react";
import { useState } from "react";
import type { PlanRule, RuleEdit } from "../api";
import { pathsApiV1ItemsGetParametersQueryKindValues as kinds } from "../api.gen";
import { Button } from "../parts/Button";
import { sendRule } from "./queries";
import { plural } from "../words";
import { Tried } from "./Tried";

/** Changes a rule: what it takes, where it goes, on which power and when. */
export function ChangeRule({ rule: r, destinations }: { rule: PlanRule; destinations: string[] }) {
  const [edit, setEdit] = useState<RuleEdit>();
  if (edit === undefined) {
    const { take, to, power, hours, larger, longer } = r;
    return (
      <div className="mt-1">
        <Button
          onClick={() => setEdit({ rule: r.name, take, to, power, hours, larger, longer })}
          aria-label={`Change ${r.name}`}
        >
          Change
        </Button>
      </div>
    );
  }
  const set = (change: Partial<RuleEdit>) => setEdit({ ...edit, ...change });
  const toggled = <T extends string>(list: readonly T[], one: T): T[] =>
    list.includes(one) ? list.filter((v) => v !== one) : [...list, one];
  const take = edit.take ?? [];
  const to = edit.to ?? [];
  return (
    <div
      role="group"
      aria-label={`Change ${r.name}`}
      className="mt-2 space-y-3 rounded-md border border-line p-3"
    >
      <Checks
        title="Takes"
        of={kinds}
        on={take}
        label={plural}
        toggle={(k) => set({ take: toggled(take, k) })}
      />
      <Checks
        title="Goes to"
        of={destinations}
        on={to}
        label={(d) => d}
        toggle={(d) => set({ to: toggled(to, d) })}
      />
      <div className="grid gap-3 sm:grid-cols-2">
        <Text
          label="Power"
          hint="charging or at least 40%"
          value={edit.power ?? ""}
          change={(power) => set({ power })}
        />
        <Text
          label="Only files larger than"
          hint="2 GB"
          value={edit.larger ?? ""}
          change={(larger) => set({ larger })}
        />
        <Text
          label="Only clips longer than"
          hint="10 min"
          value={edit.longer ?? ""}
          change={(longer) => set({ longer })}
        />
        <Text label="Hours" hint="22:00-06:00" value={edit.hours ?? ""} change={(hours) => set({ hours })} />
      </div>
      <Tried
        key={JSON.stringify(edit)}
        ready={take.length > 0 && to.length > 0}
        send={(onlyTry) => sendRule({ ...edit, try: onlyTry })}
        done={() => setEdit(undefined)}
      />
    </div>
  );
}

export function Checks<T extends string>(props: {
  title: string;
  of: readonly T[];
  on: readonly T[];
  label: (one: T) => string;
  toggle: (one: T) => void;
}) {
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-quiet">{props.title}</legend>
      <div className="flex flex-wrap gap-x-5 gap-y-2">
        {props.of.map((one) => (
          <label key={one} className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={props.on.includes(one)}
              onChange={() => props.toggle(one)}
              className="size-4 accent-tide"
            />
            {props.label(one)}
          </label>
        ))}
      </div>
    </fieldset>
  );
}

export function Text(props: { label: string; hint: string; value: string; change: (value: string) => void }) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label} (empty for any)</Label>
      <Input
        className="w-full rounded-md border border-line bg-paper px-3 py-1.5 placeholder:text-quiet"
        placeholder={`such as ${props.hint}`}
        value={props.value}
        onChange={(e) => props.change(e.target.value)}
      />
    </Field>
  );
}
