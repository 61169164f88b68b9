import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { HeldRule, Plan, PlanDoubt, PlanRule } from "../api";
import { Button } from "../parts/Button";
import { bytes, plural, things } from "../words";
import { Chips } from "./Chips";
import { useDraft } from "./draft";
import { FormBox } from "./FormBox";
import { at, shortly, unsaidGates, useKeysOf, words, type Values } from "./keys";
import { OneThing } from "./OneThing";
import { OwnOfDevices } from "./OwnOfDevices";
import { useParts } from "./parts";
import { below, Sentence } from "./Sentence";
import { Tried } from "./Tried";

type Of = { rule: PlanRule; plan: Plan; held?: HeldRule };

/** A thing of a rule that is being changed: the path of its key, and the words that told of it. */
export type Thing = { path: string[]; says: string };

/** A rule of the plan: its sentence, whose words are the controls, what it holds now, and what of it was hardly meant. */
export function Rule(props: Of) {
  const { rule: r, plan: p } = props;
  const [thing, setThing] = useState<Thing>();
  const [leaving, setLeaving] = useState(false);
  const pick = (path: string[], says: string) =>
    setThing(thing?.path.join() === path.join() ? undefined : { path, says });
  const path = ["rules", r.name];
  const doubts = p.doubts.filter((d) => below(d.at, path));
  const idle = doubts.filter((d) => d.idle).map((d) => d.at.slice(2));
  return (
    <div className="py-3">
      <dt className={`font-semibold ${r.follows.length === 0 ? "text-quiet" : ""}`}>{r.name}</dt>
      <dd className={r.follows.length === 0 ? "text-quiet" : ""}>
        <Sentence phrases={r.phrases} of={r.name} open={thing?.path} pale={idle} pick={pick} />
        {thing && (
          <Change
            key={thing.path.join()}
            {...props}
            thing={thing}
            pick={pick}
            done={() => setThing(undefined)}
          />
        )}
        {r.follows.length === 0 && <p className="text-sm">Nobody follows it: it does nothing.</p>}
        <Holds held={props.held} />
        <Doubts doubts={doubts.filter((d) => d.at.length > 2)} rule={r} pick={pick} />
        <Unsaid rule={r} plan={p} pick={pick} />
        {r.follows.length === 0 && !leaving && (
          <Button onClick={() => setLeaving(true)} aria-label={`Take out ${r.name}`}>
            Take out
          </Button>
        )}
        {leaving && (
          <FormBox label={`Take out ${r.name}`}>
            <Tried edits={[{ path }]} version={p.version} done={() => setLeaving(false)} />
          </FormBox>
        )}
        <OwnOfDevices rule={r} plan={p} />
      </dd>
    </div>
  );
}

function Change(
  props: Of & { thing: Thing; pick: (path: string[], says: string) => void; done: () => void },
) {
  const { rule: r, plan: p, thing, pick, done } = props;
  const draft = useDraft((at(p.values, "rules", r.name) as Values | undefined) ?? {}, ["rules", r.name]);
  const parts = useParts(r.follows.map((s) => s.device));
  return (
    <OneThing {...thing} {...{ draft, parts, pick, done }} rule={r.name} what={r.name} version={p.version} />
  );
}

/** How many items go by a rule, and why some of them wait. */
function Holds({ held }: { held?: HeldRule }) {
  if (!held || held.all.n === 0) return null;
  const open = held.all.n - held.safe.n;
  return (
    <div className="text-sm text-quiet">
      <p>
        {things(held.all.n)}, {bytes(held.all.bytes)}:{" "}
        {open === 0 ? "all safe" : `${open.toLocaleString("en-GB")} not safe yet`}.
      </p>
      {held.holds.length > 0 && (
        <ul>
          {held.holds.slice(0, 3).map((h) => (
            <li key={h.gate + h.says}>
              {things(h.n, h.kinds)} on {h.devices.join(", ")} wait: {h.says}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** What of a rule was hardly meant, each with the way to the control that mends it. */
function Doubts(props: {
  doubts: PlanDoubt[];
  rule: PlanRule;
  pick: (path: string[], says: string) => void;
}) {
  const { doubts, rule: r, pick } = props;
  if (doubts.length === 0) return null;
  const titles: Record<string, string> = { to: "Where it goes", take: "What it takes", lanes: "This way" };
  return (
    <ul aria-label={`What was hardly meant of ${r.name}`} className="mt-2 space-y-1">
      {doubts.map((d) => {
        const path = d.at.slice(2);
        const [first = ""] = path;
        const title = titles[first] ?? "Change it";
        const to =
          first === "lanes" && path.length === 2 ? [...path, "over"] : first === "to" ? ["to"] : path;
        return (
          <li
            key={d.says}
            className="flex flex-wrap items-center justify-between gap-2 rounded-md bg-lamp p-2 text-ink"
          >
            <span className="min-w-0 flex-1 basis-60 wrap-anywhere">{d.says}</span>
            <Button onClick={() => pick(to, title)} aria-label={`${title}: ${r.name}`}>
              {title}
            </Button>
          </li>
        );
      })}
    </ul>
  );
}

/** What a rule does not say yet, and might. */
function Unsaid({ rule: r, plan: p, pick }: Of & { pick: (path: string[], says: string) => void }) {
  const keys = useKeysOf("rules");
  const gates = useKeysOf("rules", "gates");
  const parts = useParts(r.follows.map((s) => s.device));
  const said = (...path: string[]) => r.phrases.some((f) => f.of?.join() === path.join());
  const take = words(p.values, "rules", r.name, "take");
  const kinds = (keys.find((k) => k.name === "send")?.words ?? []).map((w) => w.word);
  const list: [string, string][] = [
    ...unsaidGates(gates, parts, (name) => said("gates", name)),
    ["lanes/+", "Another way"],
    ...(p.renditions.length > 0
      ? kinds
          .filter((k) => take.includes(k) && !said("send", k))
          .map((k): [string, string] => [`send/${k}`, `Form of ${plural(k)}`])
      : []),
    ...keys
      .filter((k) => k.label && k.name !== "lanes" && !said(k.name))
      .filter((k) => k.name !== "previews" || p.renditions.length > 0)
      .map((k): [string, string] => [k.name, shortly(k)]),
  ];
  return (
    <details className="mt-1">
      <summary
        aria-label={`More that may be said of ${r.name}`}
        className="cursor-pointer text-sm text-quiet"
      >
        More that may be said
      </summary>
      <div className="mt-2">
        <Chips
          label={`${r.name} says nothing of`}
          list={list}
          pick={(key, says) => pick(key.split("/"), says)}
        />
      </div>
    </details>
  );
}

/** What of the plan was hardly meant and belongs to no rule. */
export function OtherDoubts({ plan: p }: { plan: Plan }) {
  const rest = p.doubts.filter((d) => d.at[0] !== "rules");
  if (rest.length === 0) return null;
  return (
    <ul aria-label="What was hardly meant" className="mt-3 space-y-1">
      {rest.map((d) => (
        <li key={d.says} className="rounded-md bg-lamp p-2 wrap-anywhere">
          {d.says}{" "}
          {d.at[0] === "destinations" && (
            <Link to="/destinations" className="underline">
              Look at the destinations
            </Link>
          )}
        </li>
      ))}
    </ul>
  );
}
