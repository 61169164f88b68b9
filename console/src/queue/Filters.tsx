import { Field, Label, Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { Check, ChevronDown } from "lucide-react";
import { buttonLook } from "../parts/Button";
import { useYard } from "../yard";
import { gates, kinds, states, type QueueSearch } from "./search";

/** The filters: device, state, kind, hold and place. */
export function Filters({ search, go }: { search: QueueSearch; go: (change: QueueSearch) => void }) {
  const yard = useYard();
  const devices = yard.data?.devices.map((d) => d.name) ?? [];
  return (
    <div className="flex flex-wrap gap-3">
      <Choice
        label="Device"
        all="all devices"
        options={devices}
        value={search.device}
        pick={(device) => go({ device })}
      />
      <Choice
        label="State"
        all="all states"
        options={states}
        value={search.state}
        pick={(state) => go({ state, hold: undefined })}
      />
      <Choice
        label="Kind"
        all="all kinds"
        options={kinds}
        value={search.kind}
        pick={(kind) => go({ kind })}
      />
      <Choice
        label="Held by"
        all="any gate or none"
        options={gates}
        value={search.hold}
        pick={(hold) => go({ hold, state: undefined })}
      />
      <Choice
        label="Place"
        all="all places"
        options={yard.data?.destinations.map((d) => d.name) ?? []}
        value={search.destination}
        pick={(destination) => go({ destination })}
      />
    </div>
  );
}

/** What a state is called: one of the filters stands for several. */
const called = (option: string) => (option === "unsafe" ? "not safe yet" : option);

type ChoiceProps = {
  label: string;
  all: string;
  options: readonly string[];
  value?: string;
  pick: (value?: string) => void;
};

function Choice({ label, all, options, value, pick }: ChoiceProps) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{label}</Label>
      <Listbox value={value ?? ""} onChange={(v: string) => pick(v || undefined)}>
        <ListboxButton className={`${buttonLook} min-w-36 justify-between`}>
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
