import { useState } from "react";
import type { HeldFolder, Plan, PlanFolder } from "../api";
import { Browse } from "../parts/Browse";
import { Button } from "../parts/Button";
import { TextField } from "../parts/Field";
import { useYard } from "../yard";
import { useDraft, type Draft } from "./draft";
import { Fields } from "./Fields";
import { ChangedMeanwhile, FormBox } from "./FormBox";
import { adding, parts, useKeysOf, words, type Values } from "./keys";
import { Choose } from "./KeyField";
import { LookInto } from "./LookInto";
import { useUsual } from "./queries";
import { bytes, folderName, things, when } from "../words";
import { RuleOrder } from "./RuleOrder";
import { Tried } from "./Tried";

/** A folder that is taken up, and the ways to change what of it goes, or to take it out. */
export function Source({ source: s, plan: p, held }: { source: PlanFolder; plan: Plan; held?: HeldFolder }) {
  const [doing, setDoing] = useState<"change" | "leave">();
  const name = `${folderName(s.folder)} of ${s.device}`;
  const toggle = (what: "change" | "leave") => setDoing(doing === what ? undefined : what);
  const done = () => setDoing(undefined);
  const sources = parts(p.values, "devices", s.device, "sources");
  const n = sources.findIndex((one) => one.folder === s.folder);
  const path = ["devices", s.device, "sources", `#${n}`];
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
      {held && <Holds held={held} />}
      {doing === "leave" && (
        <FormBox label={`Take ${name} out of the plan`}>
          <Tried edits={[{ path }]} version={p.version} done={done} />
        </FormBox>
      )}
      {doing === "change" && (
        <ChangeSource source={s} values={sources[n] ?? {}} path={path} plan={p} done={done} />
      )}
    </li>
  );
}

/** What is in a folder, how much of it is safe, and what came last. */
function Holds({ held: h }: { held: HeldFolder }) {
  const open = h.all.n - h.safe.n;
  const state =
    h.all.n === 0 ? "" : open === 0 ? ": all safe" : `: ${open.toLocaleString("en-GB")} not safe yet`;
  return (
    <div className="text-sm text-quiet wrap-anywhere">
      <p>
        {h.away && "It lies on something that is not here. "}
        {!h.scanned && !h.away && "It was not looked through yet. "}
        {h.all.n === 0 ? "Nothing of it is taken up" : `${things(h.all.n)}, ${bytes(h.all.bytes)}`}
        {state}
        {h.leftOut.n > 0 && `; ${h.leftOut.n.toLocaleString("en-GB")} left out`}
        {h.changed && `; the newest came ${when(h.changed)}`}.
      </p>
      {h.problems.map((p) => (
        <p key={p.path} className="rounded-md bg-lamp p-2 text-ink">
          {p.says} {p.todo}
        </p>
      ))}
    </div>
  );
}

function ChangeSource(props: {
  source: PlanFolder;
  values: Values;
  path: string[];
  plan: Plan;
  done: () => void;
}) {
  const { source: s, plan: p } = props;
  const draft = useDraft(props.values, props.path);
  return (
    <FormBox label={`What of ${s.folder} goes`}>
      <ChangedMeanwhile what={`${s.folder} of ${s.device}`} version={p.version} is={draft.changedMeanwhile} />
      <What draft={draft} plan={p} />
      <LookInto device={s.device} folder={s.folder} set={draft.whole} change={draft.set} />
      <Tried edits={draft.edits} version={p.version} done={props.done} />
    </FormBox>
  );
}

/** Which rules a source follows, and what of it is taken up. */
function What({ draft, plan: p }: { draft: Draft; plan: Plan }) {
  const scope = useKeysOf("devices", "sources").filter((k) => k.label);
  const some = scope.some((k) => draft.at(k.name) !== undefined);
  return (
    <>
      <RuleOrder
        rules={p.rules}
        value={words(draft.whole, "rules")}
        change={(rules) => draft.set(rules, "rules")}
      />
      <details open={some} className="rounded-md border border-line p-3">
        <summary className="cursor-pointer">Only some of it</summary>
        <div className="mt-3 space-y-3">
          <Fields keys={scope} draft={draft} />
        </div>
      </details>
    </>
  );
}

/** Has one more folder taken up. */
export function AddSource({ plan: p }: { plan: Plan }) {
  const [open, setOpen] = useState(false);
  if (open) return <NewSource plan={p} done={() => setOpen(false)} />;
  return (
    <div className="mt-3">
      <Button onClick={() => setOpen(true)}>Add a folder</Button>
    </div>
  );
}

function NewSource({ plan: p, done }: { plan: Plan; done: () => void }) {
  // One that joined has no folders yet.
  const joined = useYard().data?.devices.map((d) => d.name) ?? [];
  const devices = [...new Set([...p.devices.map((d) => d.device), ...joined])].sort();
  const [chosen, setDevice] = useState<string>();
  const device = chosen ?? devices[0] ?? "";
  const [folder, setFolder] = useState("");
  const [browsing, setBrowsing] = useState(false);
  const [first] = useState<Values>({ rules: p.rules.slice(0, 1).map((r) => r.name) });
  const draft = useDraft(first, []);
  const source = { ...draft.whole, folder };
  return (
    <FormBox label="Add a folder">
      <div className="grid gap-3 sm:grid-cols-2">
        <Choose label="Device" value={device} of={devices.map((d) => [d, d])} change={setDevice} />
        <TextField label="Folder" hint="Pictures" value={folder} change={setFolder} />
      </div>
      <Usual device={device} pick={setFolder} browse={() => setBrowsing(!browsing)} browsing={browsing} />
      {browsing && device !== "" && <Browse key={device} device={device} pick={setFolder} />}
      <LookInto device={device} folder={folder} set={draft.whole} pick={setFolder} change={draft.set} />
      <What draft={draft} plan={p} />
      <Tried
        edits={[adding(p.values, device, "sources", source)]}
        version={p.version}
        ready={folder !== ""}
        done={done}
      />
    </FormBox>
  );
}

/** The folders in which people mostly keep their things, to be picked, and the way to all others. */
function Usual(props: {
  device: string;
  pick: (folder: string) => void;
  browse: () => void;
  browsing: boolean;
}) {
  const { device, pick } = props;
  const usual = useUsual(device).data?.filter((u) => u.source === "") ?? [];
  return (
    <div role="group" aria-label="Usual folders" className="flex flex-wrap gap-2">
      {usual.map((u) => (
        <Button key={u.folder} onClick={() => pick(u.folder)} title={u.path}>
          {folderName(u.folder)}
        </Button>
      ))}
      <Button aria-expanded={props.browsing} onClick={props.browse}>
        Browse
      </Button>
    </div>
  );
}
