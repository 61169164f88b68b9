import { useState } from "react";
import type { PlanRule } from "../api";
import { Button } from "../parts/Button";
import { useDraft } from "./draft";
import { Fields } from "./Fields";
import { ChangedMeanwhile, FormBox } from "./FormBox";
import { at, parts as partsOf, useKeysOf, words, type Values } from "./keys";
import { Lanes } from "./Lanes";
import { useParts } from "./parts";
import { Tried } from "./Tried";

type Of = { rule: PlanRule; values: Values; version: number };

/** What devices have otherwise than a rule says, and the ways to change it. */
export function OwnOfDevices({ rule: r, values, version }: Of) {
  const [doing, setDoing] = useState<{ device: string; reset: boolean }>();
  const devices = [...new Set(r.follows.map((s) => s.device))];
  const done = () => setDoing(undefined);
  if (devices.length === 0) return null;
  return (
    <div className="mt-2">
      <ul>
        {devices.map((device) => {
          const own = r.own.find((o) => o.device === device);
          return (
            <li key={device} className="flex flex-wrap items-center gap-2 py-1 text-sm">
              <span className="wrap-anywhere text-quiet">
                {device} {own ? `has of its own: ${own.says}` : "follows it as it is"}
              </span>
              <Button
                onClick={() => setDoing({ device, reset: false })}
                aria-label={`Otherwise on ${device} (${r.name})`}
              >
                Otherwise on {device}
              </Button>
              {own && (
                <Button
                  onClick={() => setDoing({ device, reset: true })}
                  aria-label={`As it is on ${device} (${r.name})`}
                >
                  As it is on {device}
                </Button>
              )}
            </li>
          );
        })}
      </ul>
      {doing && (
        <FormBox label={`${r.name} on ${doing.device}`}>
          {doing.reset ? (
            <Tried
              edits={[{ path: ["devices", doing.device, "rules", r.name] }]}
              version={version}
              done={done}
            />
          ) : (
            <Own
              key={doing.device}
              rule={r}
              values={values}
              version={version}
              device={doing.device}
              done={done}
            />
          )}
        </FormBox>
      )}
    </div>
  );
}

function Own(props: Of & { device: string; done: () => void }) {
  const { rule: r, values, version, device, done } = props;
  const own = (at(values, "devices", device, "rules", r.name) as Values | undefined) ?? {};
  const draft = useDraft(own, ["devices", device, "rules", r.name]);
  const gates = useKeysOf("rules", "gates");
  const parts = useParts([device]);
  // Lanes are its own only when they were changed.
  const lanes = partsOf(draft.whole, "lanes");
  return (
    <>
      <ChangedMeanwhile what={`${r.name} on ${device}`} version={version} is={draft.changedMeanwhile} />
      <Lanes
        lanes={lanes.length > 0 ? lanes : partsOf(values, "rules", r.name, "lanes")}
        take={words(values, "rules", r.name, "take")}
        parts={parts}
        change={(l) => draft.set(l, "lanes")}
      />
      <Fields keys={gates} under={["gates"]} draft={draft} parts={parts} own />
      <Tried edits={draft.edits} version={version} done={done} />
    </>
  );
}
