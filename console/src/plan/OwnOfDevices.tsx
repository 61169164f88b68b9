import { useState } from "react";
import type { Phrase, Plan, PlanRule } from "../api";
import { Button } from "../parts/Button";
import { Chips } from "./Chips";
import { useOwnDraft } from "./draft";
import { FormBox } from "./FormBox";
import { unsaidGates, useKeysOf } from "./keys";
import { OneThing } from "./OneThing";
import { useParts } from "./parts";
import type { Thing } from "./Rule";
import { Sentence } from "./Sentence";
import { Tried } from "./Tried";

type Of = { rule: PlanRule; plan: Plan };

/** What devices have otherwise than a rule says, each as its own sentence, and the ways to change it. */
export function OwnOfDevices({ rule: r, plan }: Of) {
  const [begun, setBegun] = useState<string>(); // a device that is to have something of its own
  const devices = [...new Set(r.follows.map((s) => s.device))];
  const others = devices.filter((d) => d !== begun && !r.own.some((o) => o.device === d));
  if (devices.length === 0) return null;
  return (
    <ul className="mt-2 space-y-2">
      {r.own.map((o) => (
        <Own key={o.device} rule={r} plan={plan} device={o.device} phrases={o.phrases} own />
      ))}
      {begun && !r.own.some((o) => o.device === begun) && (
        <Own
          key={begun}
          rule={r}
          plan={plan}
          device={begun}
          phrases={r.phrases.filter(way)}
          over={() => setBegun(undefined)}
        />
      )}
      {others.length > 0 && (
        <li className="flex flex-wrap items-center gap-2 text-sm">
          <span className="text-quiet wrap-anywhere">
            {others.join(", ")} {others.length === 1 ? "follows" : "follow"} it as it is
          </span>
          {others.map((device) => (
            <Button
              key={device}
              onClick={() => setBegun(device)}
              aria-label={`Otherwise on ${device} (${r.name})`}
            >
              Otherwise on {device}
            </Button>
          ))}
        </li>
      )}
    </ul>
  );
}

/** Whether a phrase tells of what a device may have otherwise. */
const way = (p: Phrase) => p.of === undefined || ["lanes", "gates"].includes(p.of[0] ?? "");

function Own(props: Of & { device: string; phrases: Phrase[]; own?: boolean; over?: () => void }) {
  const { rule: r, plan, device, own } = props;
  const [thing, setThing] = useState<Thing>();
  const [resetting, setResetting] = useState(false);
  const pick = (path: string[], says: string) => setThing({ path, says });
  const parts = useParts([device]);
  const gates = useKeysOf("rules", "gates");
  // Words between two phrases that are not a device's own say nothing.
  const first = props.phrases.findIndex((p) => p.of !== undefined);
  const last = props.phrases.findLastIndex((p) => p.of !== undefined);
  const phrases = props.phrases.slice(Math.max(0, first), last + 1);
  const said = (name: string) => phrases.some((p) => p.of?.join() === `gates,${name}`);
  return (
    <li className="border-l-2 border-line pl-3">
      <p className="text-sm text-quiet wrap-anywhere">
        On {device} {own ? "otherwise:" : "as the rule has it; what shall be otherwise?"}
      </p>
      <Sentence phrases={phrases} of={`${r.name} on ${device}`} open={thing?.path} pick={pick} />
      <div className="mt-1 flex flex-wrap items-end gap-2">
        <Chips
          label={`Also on ${device}`}
          list={unsaidGates(gates, parts, said)}
          pick={(key, says) => pick(key.split("/"), says)}
        />
        {own && (
          <Button onClick={() => setResetting(true)} aria-label={`As it is on ${device} (${r.name})`}>
            As it is on {device}
          </Button>
        )}
      </div>
      {thing && (
        <Change
          key={thing.path.join()}
          {...props}
          thing={thing}
          pick={pick}
          done={() => {
            setThing(undefined);
            props.over?.();
          }}
        />
      )}
      {resetting && (
        <FormBox label={`${r.name} on ${device}`}>
          <Tried
            edits={[{ path: ["devices", device, "rules", r.name] }]}
            version={plan.version}
            done={() => setResetting(false)}
          />
        </FormBox>
      )}
    </li>
  );
}

function Change(
  props: Of & {
    device: string;
    thing: Thing;
    pick: (path: string[], says: string) => void;
    done: () => void;
  },
) {
  const { rule: r, plan, device, thing, pick, done } = props;
  const draft = useOwnDraft(plan.values, device, r.name);
  const parts = useParts([device]);
  return (
    <OneThing
      {...thing}
      {...{ draft, parts, pick, done }}
      rule={r.name}
      what={`${r.name} on ${device}`}
      version={plan.version}
      own
    />
  );
}
