import { Field, Label, Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { Check, ChevronDown } from "lucide-react";
import { buttonLook } from "./Button";

type Props = {
  label: string;
  all: string;
  options: readonly string[];
  value?: string;
  pick: (value?: string) => void;
  /** What an option is called. */
  called?: (option: string) => string;
};

/** One of a list, or all. */
export function PickOne({ label, all, options, value, pick, called = (o) => o }: Props) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{label}</Label>
      <Listbox value={value ?? ""} onChange={(v: string) => pick(v || undefined)}>
        <ListboxButton className={`${buttonLook} min-w-28 justify-between`}>
          {value ? called(value) : all}
          <ChevronDown aria-hidden className="size-4" />
        </ListboxButton>
        <ListboxOptions
          anchor="bottom start"
          className="z-10 mt-1 max-h-72 rounded-md border border-line bg-plank p-1 shadow-lg"
        >
          {["", ...options].map((o) => (
            <ListboxOption
              key={o}
              value={o}
              className="group flex cursor-pointer items-center gap-2 rounded px-3 py-1.5 data-focus:bg-wash"
            >
              <Check aria-hidden className="invisible size-4 group-data-selected:visible" />
              {called(o) || all}
            </ListboxOption>
          ))}
        </ListboxOptions>
      </Listbox>
    </Field>
  );
}
