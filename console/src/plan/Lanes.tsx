import { Field, Label, Select } from "@headlessui/react";
import { useState } from "react";
import type { RuleLane } from "../api";
import { Button } from "../parts/Button";
import { Check, fieldLook, TextField } from "../parts/Field";
import { plural } from "../words";
import { usePlan } from "./queries";

const networks = { wifi: "Wi-Fi or cable", wired: "cable only", cellular: "cellular" } as const;
type Over = keyof typeof networks;

/** What a way carries: whole copies, or small ones of a form. */
function Carries(props: { label: string; send: string; change: (send: string) => void }) {
  const renditions = (usePlan().data?.renditions ?? []).filter((r) => r.pictures || r.clips);
  if (renditions.length === 0) return null;
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Select className={fieldLook} value={props.send} onChange={(e) => props.change(e.target.value)}>
        <option value="">the whole of each</option>
        {renditions.map((r) => (
          <option key={r.name} value={r.name}>
            a small copy first, as {r.name}
          </option>
        ))}
      </Select>
    </Field>
  );
}

const noCellular = { roaming: false, roamingAllowance: "", meteredWifi: false };
const noWiFi = { named: [], notNamed: [], homeOnly: false };

/** Words with commas between. */
function Words(props: { label: string; hint: string; words: string[]; change: (words: string[]) => void }) {
  const [text, setText] = useState(props.words.join(", "));
  return (
    <TextField
      label={props.label}
      hint={props.hint}
      value={text}
      change={(typed) => {
        setText(typed);
        props.change(
          typed
            .split(",")
            .map((w) => w.trim())
            .filter((w) => w !== ""),
        );
      }}
    />
  );
}

/** The ways that a rule may go: the first open one is used. */
export function Lanes(props: {
  lanes: RuleLane[];
  take: string[];
  modem: boolean; // whether a device that goes by them has one
  change: (lanes: RuleLane[]) => void;
}) {
  const { lanes, take, modem, change } = props;
  const set = (i: number, c: Partial<RuleLane>) =>
    change(lanes.map((l, at) => (at === i ? { ...l, ...c } : l)));
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-quiet">Goes over, the first that is open</legend>
      <ol className="space-y-3">
        {lanes.map((l, i) => (
          <li key={i} className="space-y-2 rounded-md border border-line p-3">
            <div className="grid items-end gap-3 sm:grid-cols-3">
              <Field>
                <Label className="mb-1 block text-sm text-quiet">Way {i + 1}</Label>
                <Select
                  className={fieldLook}
                  value={l.over}
                  onChange={(e) => {
                    const over = e.target.value as Over;
                    // What only the other has goes with it.
                    set(i, {
                      over,
                      ...(over === "cellular" ? { metered: false } : noCellular),
                      ...(over === "wifi" ? {} : noWiFi),
                    });
                  }}
                >
                  {Object.entries(networks)
                    .filter(([value]) => modem || value !== "cellular" || l.over === "cellular")
                    .map(([value, label]) => (
                      <option key={value} value={value}>
                        {label}
                      </option>
                    ))}
                </Select>
                {!modem && l.over === "cellular" && (
                  <p className="mt-1 text-sm text-quiet">No device that goes by it has a modem.</p>
                )}
              </Field>
              <TextField
                label={`Way ${i + 1} carries at most`}
                hint="45 MB per day"
                value={l.allowance}
                change={(allowance) => set(i, { allowance })}
              />
              {lanes.length > 1 && (
                <span>
                  <Button
                    onClick={() => change(lanes.filter((_, at) => at !== i))}
                    aria-label={`Take out way ${i + 1}`}
                  >
                    Take out
                  </Button>
                </span>
              )}
            </div>
            <div className="flex flex-wrap gap-x-5 gap-y-2">
              {l.over === "cellular" ? (
                <Check
                  label="also while roaming"
                  on={l.roaming}
                  change={(roaming) => set(i, { roaming })}
                  of={`way ${i + 1}`}
                />
              ) : (
                <Check
                  label="also where it is metered"
                  on={l.metered}
                  change={(metered) => set(i, { metered })}
                  of={`way ${i + 1}`}
                />
              )}
              {l.over === "cellular" && (
                <Check
                  label="also over a metered Wi-Fi"
                  on={l.meteredWifi ?? false}
                  change={(meteredWifi) => set(i, { meteredWifi })}
                  of={`way ${i + 1}`}
                />
              )}
              {l.over === "wifi" && (
                <Check
                  label="at home only"
                  on={l.homeOnly ?? false}
                  change={(homeOnly) => set(i, { homeOnly })}
                  of={`way ${i + 1}`}
                />
              )}
              {take.map((k) => {
                const on = l.take.length === 0 || l.take.includes(k as RuleLane["take"][number]);
                return (
                  <Check
                    key={k}
                    label={plural(k)}
                    on={on}
                    of={`way ${i + 1}`}
                    change={() => {
                      const now = take.filter((o) =>
                        o === k ? !on : l.take.length === 0 || l.take.includes(o as RuleLane["take"][number]),
                      );
                      set(i, { take: (now.length === take.length ? [] : now) as RuleLane["take"] });
                    }}
                  />
                );
              })}
            </div>
            <Carries label={`Way ${i + 1} carries`} send={l.send ?? ""} change={(send) => set(i, { send })} />
            {l.over === "cellular" && l.roaming && (
              <TextField
                label={`Way ${i + 1}, while roaming at most`}
                hint="5 MB per day"
                value={l.roamingAllowance ?? ""}
                change={(roamingAllowance) => set(i, { roamingAllowance })}
              />
            )}
            {l.over === "wifi" && (
              <div className="grid gap-3 sm:grid-cols-2">
                <Words
                  label={`Way ${i + 1}, only on these networks (empty for any)`}
                  hint="Slip, Loft"
                  words={l.named ?? []}
                  change={(named) => set(i, { named })}
                />
                <Words
                  label={`Way ${i + 1}, not on these networks`}
                  hint="Harbour"
                  words={l.notNamed ?? []}
                  change={(notNamed) => set(i, { notNamed })}
                />
              </div>
            )}
          </li>
        ))}
      </ol>
      <div className="mt-2">
        <Button
          onClick={() =>
            change([
              ...lanes,
              { over: modem ? "cellular" : "wifi", take: [], allowance: "", metered: false, roaming: false },
            ])
          }
        >
          Add a way
        </Button>
      </div>
    </fieldset>
  );
}
