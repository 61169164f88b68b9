import { Check } from "../parts/Field";
import { useYard } from "../yard";
import type { Draft } from "./draft";
import { at, words } from "./keys";
import { Choose } from "./KeyField";
import { usePlan } from "./queries";

/** Where a rule sends, and the form of each place that has one of its own: "locker as family". */
export function Places({ draft }: { draft: Draft }) {
  const destinations = useYard().data?.destinations.map((d) => d.name) ?? [];
  const renditions = usePlan().data?.renditions ?? [];
  const to = words(draft.whole, "to").map(split);
  const reduces = Object.keys((at(draft.whole, "send") as object | undefined) ?? {}).length > 0;
  const set = (name: string, form?: string) => {
    const one = { name, form: form ?? "" };
    const there = to.some((t) => t.name === name);
    const now = there ? to.map((t) => (t.name === name ? one : t)) : [...to, one];
    draft.set(now.map(join), "to");
  };
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-quiet">Goes to</legend>
      <ul className="grid gap-2">
        {destinations.map((name) => {
          const goes = to.find((t) => t.name === name);
          const asked = renditions.length > 0 || goes?.form;
          return (
            <li key={name} className="grid items-end gap-x-3 gap-y-1 sm:grid-cols-[12rem_1fr]">
              <div className="sm:pb-1.5">
                <Check
                  label={name}
                  on={goes !== undefined}
                  change={(on) =>
                    on ? set(name) : draft.set(to.filter((t) => t.name !== name).map(join), "to")
                  }
                />
              </div>
              {goes && asked && (
                <Choose
                  label={`Form at ${name}`}
                  value={goes.form}
                  of={[
                    ["", reduces ? "as the rule says below" : "as shot"],
                    ...(reduces || goes.form === "shot" ? [["shot", "as shot"] as const] : []),
                    ...renditions.map((r) => [r.name, `${r.name}: ${r.says}`] as const),
                  ]}
                  change={(form) => set(name, form)}
                />
              )}
            </li>
          );
        })}
      </ul>
    </fieldset>
  );
}

/** A place as a plan writes it, in its two parts. */
function split(word: string) {
  const [name = "", form = ""] = word.split(" as ");
  return { name, form };
}

const join = ({ name, form }: { name: string; form: string }) => (form ? `${name} as ${form}` : name);
