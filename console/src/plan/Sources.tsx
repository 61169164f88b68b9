import { Field, Label, Select, Textarea } from "@headlessui/react";
import { useState } from "react";
import type { Plan, PlanFolder, PlanRule, SourceEdit, SourceRules } from "../api";
import { Button } from "../parts/Button";
import { fieldLook, TextField } from "../parts/Field";
import { and } from "../words";
import { LookInto } from "./LookInto";
import { sendSource, useUsual } from "./queries";
import { Tried } from "./Tried";
import { useYard } from "../yard";

/** An edit of the sources, told before it counts. */
function Consequence({ edit, done }: { edit: SourceEdit; done: () => void }) {
  return (
    <Tried
      key={JSON.stringify(edit)}
      ready={edit.folder !== ""}
      send={(t) => sendSource({ ...edit, try: t })}
      done={done}
    />
  );
}

/** A folder that is taken up, and the ways to change what of it goes, or to take it out. */
export function Source({ source: s, rules }: { source: PlanFolder; rules: PlanRule[] }) {
  const [doing, setDoing] = useState<"change" | "leave">();
  const name = `${s.folder} of ${s.device}`;
  const toggle = (what: "change" | "leave") => setDoing(doing === what ? undefined : what);
  const done = () => setDoing(undefined);
  return (
    <li className="py-2">
      <span className="mr-3 wrap-anywhere">
        <span className="font-semibold">{name}</span> <span className="text-quiet">{s.says}</span>
      </span>
      <span className="inline-flex gap-2 text-sm">
        <Button
          onClick={() => toggle("change")}
          aria-expanded={doing === "change"}
          aria-label={`Change ${name}`}
        >
          Change
        </Button>
        <Button
          onClick={() => toggle("leave")}
          aria-expanded={doing === "leave"}
          aria-label={`Take out ${name}`}
        >
          Take out
        </Button>
      </span>
      {doing === "leave" && (
        <div role="group" aria-label={`Take ${name} out of the plan`} className="mt-2">
          <Consequence edit={{ device: s.device, folder: s.folder, remove: true }} done={done} />
        </div>
      )}
      {doing === "change" && <ChangeSource source={s} rules={rules} done={done} />}
    </li>
  );
}

/** What a source follows, without whose it is. */
function rulesOf(s: PlanFolder): SourceRules {
  const { rules, only, leaveOut, hidden, smallest, largest, takenFrom, takenUntil, newSince } = s;
  return { rules, only, leaveOut, hidden, smallest, largest, takenFrom, takenUntil, newSince };
}

function ChangeSource({
  source: s,
  rules,
  done,
}: {
  source: PlanFolder;
  rules: PlanRule[];
  done: () => void;
}) {
  const { device, folder } = s;
  const [set, setSet] = useState<SourceRules>(rulesOf(s));
  return (
    <div
      role="group"
      aria-label={`What of ${folder} goes`}
      className="mt-2 space-y-3 rounded-md border border-line p-3"
    >
      <RuleOrder rules={rules} value={set.rules} change={(r) => setSet({ ...set, rules: r })} />
      <Scope value={set} change={(c) => setSet({ ...set, ...c })} />
      <LookInto device={device} folder={folder} set={set} />
      <Consequence edit={{ device, folder, set }} done={done} />
    </div>
  );
}

/** Which rules a source follows: the first that takes an item counts. */
export function RuleOrder(props: { rules: PlanRule[]; value: string[]; change: (rules: string[]) => void }) {
  const { rules, value, change } = props;
  const more = rules.some((r) => !value.includes(r.name));
  const rows = more ? [...value, ""] : value;
  return (
    <ol className="space-y-2">
      {rows.map((name, i) => {
        const rule = rules.find((r) => r.name === name);
        return (
          <li key={i}>
            <Choose
              label={
                i === 0
                  ? "Rule"
                  : `What ${and(value.slice(0, i))} ${i === 1 ? "does" : "do"} not take goes by`
              }
              value={name}
              of={[
                ...(i === 0 ? [] : [""]),
                ...rules.map((r) => r.name).filter((n) => n === name || !value.includes(n)),
              ]}
              none="no other rule"
              change={(n) =>
                change(n === "" ? value.slice(0, i) : [...value.slice(0, i), n, ...value.slice(i + 1)])
              }
            />
            {rule && <p className="mt-1 text-sm text-quiet">{rule.says}</p>}
          </li>
        );
      })}
    </ol>
  );
}

/** What of a folder is taken up. */
export function Scope({
  value: v,
  change,
}: {
  value: SourceRules;
  change: (c: Partial<SourceRules>) => void;
}) {
  const lines = (list: string[]) => list.join("\n");
  const list = (text: string) => text.split("\n").filter((line) => line.trim() !== "");
  const some =
    v.only.length + v.leaveOut.length > 0 ||
    v.hidden ||
    [v.smallest, v.largest, v.takenFrom, v.takenUntil, v.newSince].some(Boolean);
  return (
    <details open={some} className="rounded-md border border-line p-3">
      <summary className="cursor-pointer">Only some of it</summary>
      <div className="mt-3 grid gap-3 sm:grid-cols-2">
        <Lines
          label="Leave out (a pattern on each line)"
          hint="such as Screenshots/"
          value={lines(v.leaveOut)}
          change={(t) => change({ leaveOut: list(t) })}
        />
        <Lines
          label="Only what fits (a pattern on each line)"
          hint="such as *.jpg"
          value={lines(v.only)}
          change={(t) => change({ only: list(t) })}
        />
        <TextField
          label="Smallest file"
          hint="10 kB"
          value={v.smallest}
          change={(smallest) => change({ smallest })}
        />
        <TextField
          label="Largest file"
          hint="4 GB"
          value={v.largest}
          change={(largest) => change({ largest })}
        />
        <TextField
          label="Taken from"
          type="date"
          value={v.takenFrom}
          change={(takenFrom) => change({ takenFrom })}
        />
        <TextField
          label="Taken until"
          type="date"
          value={v.takenUntil}
          change={(takenUntil) => change({ takenUntil })}
        />
        <TextField
          label="Only what came from this day on"
          type="date"
          value={v.newSince}
          change={(newSince) => change({ newSince })}
        />
        <label className="flex items-center gap-2 self-end pb-1.5">
          <input
            type="checkbox"
            checked={v.hidden}
            onChange={(e) => change({ hidden: e.target.checked })}
            className="size-4 accent-tide"
          />
          Hidden files, too
        </label>
      </div>
    </details>
  );
}

const everything: Omit<SourceRules, "rules"> = {
  only: [],
  leaveOut: [],
  hidden: false,
  smallest: "",
  largest: "",
  takenFrom: "",
  takenUntil: "",
  newSince: "",
};

/** Has one more folder taken up. */
export function AddSource({ plan: p }: { plan: Plan }) {
  const yard = useYard();
  // One that joined has no folders yet.
  const joined = yard.data?.devices.map((d) => d.name) ?? [];
  const devices = [...new Set([...p.sources.map((s) => s.device), ...joined])].sort();
  const [open, setOpen] = useState(false);
  const [device, setDevice] = useState(devices[0] ?? "");
  const [folder, setFolder] = useState("");
  const [set, setSet] = useState<SourceRules>({
    ...everything,
    rules: p.rules.slice(0, 1).map((r) => r.name),
  });
  if (!open) {
    return (
      <div className="mt-3">
        <Button onClick={() => setOpen(true)}>Add a folder</Button>
      </div>
    );
  }
  return (
    <div role="group" aria-label="Add a folder" className="mt-3 space-y-3 rounded-md border border-line p-3">
      <div className="grid gap-3 sm:grid-cols-2">
        <Choose label="Device" value={device} of={devices} change={setDevice} />
        <TextField label="Folder" hint="Pictures" value={folder} change={setFolder} />
      </div>
      <Usual device={device} pick={setFolder} />
      <LookInto key={device + folder} device={device} folder={folder} set={set} pick={setFolder} />
      <RuleOrder rules={p.rules} value={set.rules} change={(rules) => setSet({ ...set, rules })} />
      <Scope value={set} change={(c) => setSet({ ...set, ...c })} />
      <Consequence edit={{ device, folder, set, add: true }} done={() => setOpen(false)} />
    </div>
  );
}

/** The folders in which people mostly keep their things, to be picked. */
function Usual({ device, pick }: { device: string; pick: (folder: string) => void }) {
  const usual = useUsual(device).data?.filter((u) => u.source === "") ?? [];
  if (usual.length === 0) return null;
  return (
    <div role="group" aria-label="Usual folders" className="flex flex-wrap gap-2">
      {usual.map((u) => (
        <Button key={u.folder} onClick={() => pick(u.folder)} title={u.path}>
          {u.folder}
        </Button>
      ))}
    </div>
  );
}

function Lines(props: { label: string; hint: string; value: string; change: (value: string) => void }) {
  const [text, setText] = useState(props.value); // an empty line is one that is being written
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Textarea
        rows={3}
        className={`${fieldLook} font-mono text-sm`}
        placeholder={props.hint}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          props.change(e.target.value);
        }}
      />
    </Field>
  );
}

function Choose(props: {
  label: string;
  value: string;
  of: string[];
  none?: string;
  change: (value: string) => void;
}) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Select className={fieldLook} value={props.value} onChange={(e) => props.change(e.target.value)}>
        {props.of.map((one) => (
          <option key={one} value={one}>
            {one || props.none}
          </option>
        ))}
      </Select>
    </Field>
  );
}
