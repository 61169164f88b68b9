import type { SetupNow } from "../api";
import { pathsApiV1ItemsGetParametersQueryKindValues as kinds } from "../api.gen";
import { Failure } from "../parts/Failure";
import { parts, words } from "../plan/keys";
import { taking } from "../plan/taking";
import { bytes, plural } from "../words";
import { Forms } from "./Forms";
import { useChange } from "./queries";

const notes: Record<string, string> = {
  raw: "what the camera's sensor saw; easily forgotten, and not made again",
  graphic: "screenshots and drawings",
  document: "letters, tables, notes",
  other: "whatever else lies there",
};

/** Step 4: the kinds, with how much there is of each. */
export function How({ now }: { now: SetupNow }) {
  const change = useChange();
  const take = words(now.values, "rules", "everyday", "take");
  const of = (kind: string) => now.kinds.find((k) => k.kind === kind);
  return (
    <>
      <p className="text-quiet">Told by what is in a file, not by its name.</p>
      <fieldset>
        <legend className="sr-only">Kinds</legend>
        <ul className="divide-y divide-line">
          {kinds.map((kind) => {
            const there = of(kind);
            const on = take.includes(kind);
            return (
              <li key={kind} className="py-2">
                <label className="flex flex-wrap items-baseline gap-x-3">
                  <input
                    type="checkbox"
                    checked={on}
                    onChange={() =>
                      change.mutate({
                        edits: taking(
                          on ? take.filter((k) => k !== kind) : [...take, kind],
                          parts(now.values, "rules", "everyday", "lanes"),
                        ),
                      })
                    }
                    className="size-4 translate-y-0.5 accent-tide"
                  />
                  <span className="font-semibold first-letter:uppercase">{plural(kind)}</span>
                  <span>
                    {there ? `${there.n.toLocaleString("en-GB")}, ${bytes(there.bytes)}` : "none found"}
                  </span>
                  <span className="text-sm text-quiet">{notes[kind]}</span>
                </label>
              </li>
            );
          })}
        </ul>
      </fieldset>
      <Failure error={change.error} />
      <Forms now={now} />
    </>
  );
}
