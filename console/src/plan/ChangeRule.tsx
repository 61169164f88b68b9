import { Field, Label, Select } from "@headlessui/react";
import { useState } from "react";
import type { PlanRule, RuleEdit, RuleLane } from "../api";
import { pathsApiV1ItemsGetParametersQueryKindValues as kinds } from "../api.gen";
import { Button } from "../parts/Button";
import { Face } from "../parts/Face";
import { Failure } from "../parts/Failure";
import { Check, fieldLook, TextField } from "../parts/Field";
import { sendRule, useBursts, usePlan } from "./queries";
import { plural, taken } from "../words";
import { Lanes } from "./Lanes";
import { all, useParts, type Parts } from "./parts";
import { Tried } from "./Tried";

/** What of a rule its form changes. */
const changed = [
  "take",
  "to",
  "power",
  "hours",
  "larger",
  "longer",
  "lanes",
  "send",
  "order",
  "idle",
  "unused",
  "rest",
  "screen",
  "saver",
  "storeEach",
  "previews",
  "also",
  "onClash",
  "companions",
  "bursts",
] as const satisfies readonly (keyof PlanRule & keyof RuleEdit)[];

const editOf = (r: PlanRule): RuleEdit =>
  Object.assign({ rule: r.name }, ...changed.map((field) => ({ [field]: r[field] })));

const isOther = (a: PlanRule, b: PlanRule) =>
  changed.some((f) => JSON.stringify(a[f]) !== JSON.stringify(b[f]));

/** What is done to a rule: as it was when that began, and what is to be otherwise. */
type Doing = { begun: PlanRule; changes: Partial<RuleEdit> };

type OfRule = { rule: PlanRule; version: number; destinations: string[] };

/** Changes a rule, or takes out one that nobody follows. Only what the keeper changes is sent. */
export function ChangeRule({ rule: r, version, destinations }: OfRule) {
  const [doing, setDoing] = useState<Doing>();
  const parts = useParts(r.follows.map((s) => s.device));
  const done = () => setDoing(undefined);
  if (doing === undefined) {
    return (
      <div className="mt-1 flex gap-2">
        <Button onClick={() => setDoing({ begun: r, changes: {} })} aria-label={`Change ${r.name}`}>
          Change
        </Button>
        {r.follows.length === 0 && (
          <Button
            onClick={() => setDoing({ begun: r, changes: { remove: true } })}
            aria-label={`Take out ${r.name}`}
          >
            Take out
          </Button>
        )}
      </div>
    );
  }
  return (
    <div
      role="group"
      aria-label={`Change ${r.name}`}
      className="mt-2 space-y-3 rounded-md border border-line p-3"
    >
      {isOther(doing.begun, r) && (
        <p role="status" className="rounded-md bg-wash p-3">
          {r.name} was changed meanwhile, in version {version} of the plan. What you did not touch is shown as
          it is there; look once more at what yours would change.
        </p>
      )}
      {!doing.changes.remove && (
        <RuleForm
          edit={{ ...editOf(r), ...doing.changes }}
          parts={parts}
          destinations={destinations}
          set={(change) => setDoing({ ...doing, changes: { ...doing.changes, ...change } })}
        />
      )}
      <Consequence edit={{ rule: r.name, base: version, ...doing.changes }} of={r} done={done} />
    </div>
  );
}

/** Makes a new rule; a folder follows it when it is told to. */
export function AddRule({ destinations }: { destinations: string[] }) {
  const [edit, setEdit] = useState<RuleEdit>();
  if (edit === undefined) {
    return (
      <div className="mt-3">
        <Button
          onClick={() =>
            setEdit({
              rule: "",
              add: true,
              take: ["photo", "raw", "video"],
              to: destinations,
              lanes: [{ over: "wifi", take: [], allowance: "", metered: false, roaming: false }],
            })
          }
        >
          Add a rule
        </Button>
      </div>
    );
  }
  return (
    <div role="group" aria-label="Add a rule" className="mt-3 space-y-3 rounded-md border border-line p-3">
      <TextField label="Name" hint="films" value={edit.rule} change={(rule) => setEdit({ ...edit, rule })} />
      <RuleForm
        edit={edit}
        parts={all}
        destinations={destinations}
        set={(change) => setEdit({ ...edit, ...change })}
      />
      <Consequence edit={edit} done={() => setEdit(undefined)} />
    </div>
  );
}

function Consequence({ edit, of, done }: { edit: RuleEdit; of?: PlanRule; done: () => void }) {
  const take = edit.take ?? of?.take ?? [];
  const to = edit.to ?? of?.to ?? [];
  const chosen = edit.remove || (take.length > 0 && to.length > 0);
  return (
    <Tried
      key={JSON.stringify(edit)}
      ready={edit.rule !== "" && chosen}
      send={(onlyTry) => sendRule({ ...edit, try: onlyTry })}
      done={done}
    />
  );
}

/** What a rule takes, where and which way it goes, on which power and when. */
function RuleForm(props: {
  edit: RuleEdit;
  parts: Parts;
  destinations: string[];
  set: (change: Partial<RuleEdit>) => void;
}) {
  const { edit, parts, destinations, set } = props;
  const toggled = <T extends string>(list: readonly T[], one: T): T[] =>
    list.includes(one) ? list.filter((v) => v !== one) : [...list, one];
  const take = edit.take ?? [];
  const to = edit.to ?? [];
  const lanes = edit.lanes ?? [];
  return (
    <>
      <Checks
        title="Takes"
        of={kinds}
        on={take}
        label={plural}
        toggle={(k) => {
          const now = toggled(take, k);
          // A lane cannot carry what the rule no longer takes.
          const carries = (l: RuleLane) => l.take.filter((c) => now.includes(c));
          set({
            take: now,
            lanes: lanes.map((l) => (carries(l).length > 0 ? { ...l, take: carries(l) } : l)),
          });
        }}
      />
      <Checks
        title="Goes to"
        of={destinations}
        on={to}
        label={(d) => d}
        toggle={(d) => set({ to: toggled(to, d) })}
      />
      <Forms take={take} send={edit.send ?? {}} change={(send) => set({ send })} />
      <Companions on={edit.companions ?? []} change={(companions) => set({ companions })} />
      <Beside edit={edit} set={set} />
      <Lanes lanes={lanes} take={take} modem={parts.modem} change={(l) => set({ lanes: l })} />
      <div className="grid gap-3 sm:grid-cols-2">
        {(parts.battery || edit.power) && (
          <TextField
            label="Power (empty for any)"
            hint="charging or at least 40%"
            value={edit.power ?? ""}
            change={(power) => set({ power })}
          />
        )}
        <TextField
          label="Hours (empty for any)"
          hint="22:00-06:00"
          value={edit.hours ?? ""}
          change={(hours) => set({ hours })}
        />
        <TextField
          label="Only when nobody used the device for (empty for any)"
          hint="10 min"
          value={edit.unused ?? ""}
          change={(unused) => set({ unused })}
        />
        <TextField
          label="Only when on charge and unused together for (empty for any)"
          hint="30 min"
          value={edit.rest ?? ""}
          change={(rest) => set({ rest })}
        />
        <TextField
          label="Only files larger than (empty for any)"
          hint="2 GB"
          value={edit.larger ?? ""}
          change={(larger) => set({ larger })}
        />
        <TextField
          label="Only clips longer than (empty for any)"
          hint="10 min"
          value={edit.longer ?? ""}
          change={(longer) => set({ longer })}
        />
        <Field>
          <Label className="mb-1 block text-sm text-quiet">What goes first</Label>
          <Select
            className={fieldLook}
            value={edit.order ?? "newest"}
            onChange={(e) => set({ order: e.target.value as PlanRule["order"] })}
          >
            <option value="newest">the newest</option>
            <option value="oldest">the oldest</option>
            <option value="smallest">the smallest</option>
          </Select>
        </Field>
      </div>
      <div className="flex flex-wrap gap-x-5 gap-y-2">
        <Check
          label="Only while nobody uses the device"
          on={edit.idle ?? false}
          change={(idle) => set({ idle })}
        />
        <Check
          label="Only while the screen is dark"
          on={edit.screen === "off"}
          change={(on) => set({ screen: on ? "off" : "" })}
        />
        {(parts.battery || edit.saver) && (
          <Check
            label="Not while the system saves battery"
            on={edit.saver === "off"}
            change={(on) => set({ saver: on ? "off" : "" })}
          />
        )}
        <Check
          label="Do not send what finds its name taken"
          on={edit.onClash === "skip"}
          change={(on) => set({ onClash: on ? "skip" : "name" })}
        />
        <Check
          label="Store equal files from several places each"
          on={edit.storeEach ?? false}
          change={(storeEach) => set({ storeEach })}
        />
      </div>
    </>
  );
}

/** In which form each kind goes that can be reduced. */
function Forms(props: {
  take: string[];
  send: Record<string, string>;
  change: (send: Record<string, string>) => void;
}) {
  const renditions = usePlan().data?.renditions ?? [];
  const kinds = ["photo", "graphic", "video"].filter((k) => props.take.includes(k));
  if (renditions.length === 0 || kinds.length === 0) return null;
  return (
    <div className="grid gap-3 sm:grid-cols-2">
      {kinds.map((k) => (
        <Field key={k}>
          <Label className="mb-1 block text-sm text-quiet">
            {{ photo: "Photos", graphic: "Graphics", video: "Videos" }[k]} go as
          </Label>
          <Select
            className={fieldLook}
            value={props.send[k] ?? ""}
            onChange={(e) => props.change({ ...props.send, [k]: e.target.value })}
          >
            <option value="">as shot</option>
            {renditions
              .filter((r) => (k === "video" ? r.clips : r.pictures))
              .map((r) => (
                <option key={r.name} value={r.name}>
                  {r.name}: {r.says}
                </option>
              ))}
          </Select>
        </Field>
      ))}
    </div>
  );
}

/** Which files go with a picture: its raw, its clip, its sidecar. */
function Companions(props: {
  on: NonNullable<RuleEdit["companions"]>;
  change: (on: NonNullable<RuleEdit["companions"]>) => void;
}) {
  const choices = { "": "those whose kind is taken, and sidecars", none: "none", some: "these" } as const;
  const which = props.on.length === 0 ? "" : props.on.includes("none") ? "none" : "some";
  const names = { raw: "raw files", clip: "clips of stills", sidecar: "sidecars" } as const;
  return (
    <div className="grid items-end gap-3 sm:grid-cols-2">
      <Field>
        <Label className="mb-1 block text-sm text-quiet">Files that go with a picture</Label>
        <Select
          className={fieldLook}
          value={which}
          onChange={(e) =>
            props.change(
              { "": [], none: ["none" as const], some: ["raw", "clip", "sidecar"] as const }[
                e.target.value as keyof typeof choices
              ].slice(),
            )
          }
        >
          {Object.entries(choices).map(([value, label]) => (
            <option key={value} value={value}>
              {label}
            </option>
          ))}
        </Select>
      </Field>
      {which === "some" && (
        <div className="flex flex-wrap gap-x-5 gap-y-2 pb-2">
          {(Object.keys(names) as (keyof typeof names)[]).map((c) => (
            <Check
              key={c}
              label={names[c]}
              on={props.on.includes(c)}
              change={(on) => {
                const now = on ? [...props.on, c] : props.on.filter((o) => o !== c);
                props.change(now.length === 0 ? ["none"] : now);
              }}
            />
          ))}
        </div>
      )}
    </div>
  );
}

/** What is put beside the copies: previews, and what carries a mark under a second layout. */
function Beside({ edit, set }: { edit: RuleEdit; set: (change: Partial<RuleEdit>) => void }) {
  const renditions = (usePlan().data?.renditions ?? []).filter((r) => r.pictures);
  const also = edit.also ?? [];
  const put = (i: number, change: Partial<(typeof also)[number]>) =>
    set({ also: also.map((a, at) => (at === i ? { ...a, ...change } : a)) });
  return (
    <fieldset className="space-y-3">
      <legend className="mb-1 text-sm text-quiet">Puts beside</legend>
      {renditions.length > 0 && (
        <Field>
          <Label className="mb-1 block text-sm text-quiet">Previews, in the folder previews</Label>
          <Select
            className={fieldLook}
            value={edit.previews ?? ""}
            onChange={(e) => set({ previews: e.target.value })}
          >
            <option value="">none</option>
            {renditions.map((r) => (
              <option key={r.name} value={r.name}>
                {r.name}: {r.says}
              </option>
            ))}
          </Select>
        </Field>
      )}
      {also.map((a, i) => (
        <div key={i} className="grid items-end gap-3 sm:grid-cols-[1fr_1.5fr_auto]">
          <TextField
            label={`Pick ${i + 1}: what is`}
            hint="captioned, rated 4, keyword regatta"
            value={a.when}
            change={(when) => put(i, { when })}
          />
          <TextField
            label={`Pick ${i + 1} also goes to`}
            hint="picks/{year}/{caption}"
            value={a.layout}
            change={(layout) => put(i, { layout })}
          />
          <span>
            <Button
              onClick={() => set({ also: also.filter((_, at) => at !== i) })}
              aria-label={`Take out pick ${i + 1}`}
            >
              Take out
            </Button>
          </span>
        </div>
      ))}
      <Bursts
        rule={edit.add ? "" : edit.rule}
        on={edit.bursts ?? false}
        change={(bursts) => set({ bursts })}
      />
      <Button onClick={() => set({ also: [...also, { when: "rated 4", layout: "picks/{year}/{caption}" }] })}>
        Pick by a mark
      </Button>
    </fieldset>
  );
}

/** Clips of shots in a row; the bursts that there are, before they are switched on. */
function Bursts(props: { rule: string; on: boolean; change: (on: boolean) => void }) {
  const [shown, setShown] = useState(false);
  const found = useBursts(props.rule, shown);
  const all = (found.data ?? []).flatMap((d) => d.bursts.map((b) => ({ ...b, device: d.device })));
  return (
    <div className="space-y-2">
      <div className="flex flex-wrap items-center gap-3">
        <Check label="A clip of shots in a row" on={props.on} change={props.change} />
        {props.rule && !shown && <Button onClick={() => setShown(true)}>Show the bursts</Button>}
      </div>
      <div aria-live="polite">
        {shown && found.isPending && <p className="text-sm text-quiet">Looking for shots in a row…</p>}
        <Failure error={found.error} />
        {found.data && all.length === 0 && (
          <p className="text-sm text-quiet">No shots in a row among what it takes.</p>
        )}
        <ul>
          {all.map((b) => (
            <li key={b.device + b.key} className="flex items-center gap-3 py-1 text-sm">
              <Face device={b.device} item={b.key} kind="photo" className="size-10" />
              <span className="min-w-0 wrap-anywhere">
                {b.n} shots on {b.device}, {taken(b.takenAt)}: {b.first} to {b.last}
              </span>
            </li>
          ))}
        </ul>
        {found.data
          ?.filter((d) => d.says)
          .map((d) => (
            <p key={d.device} className="text-sm text-quiet">
              {d.device}: {d.says}
            </p>
          ))}
      </div>
    </div>
  );
}

/** What one device has otherwise than a rule says, and the ways to change it. */
export function OwnOfDevices({ rule: r }: { rule: PlanRule }) {
  const [edit, setEdit] = useState<RuleEdit>();
  const done = () => setEdit(undefined);
  const devices = [...new Set(r.follows.map((s) => s.device))];
  const parts = useParts(edit?.device ? [edit.device] : []);
  const begin = (device: string) => {
    const own = r.own.find((o) => o.device === device);
    // Lanes are its own only when they were changed.
    setEdit({ rule: r.name, device, power: own?.power ?? "", hours: own?.hours ?? "" });
  };
  const lanesOf = (device?: string) => {
    const own = r.own.find((o) => o.device === device);
    return own && own.lanes.length > 0 ? own.lanes : r.lanes;
  };
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
              <Button onClick={() => begin(device)} aria-label={`Otherwise on ${device} (${r.name})`}>
                Otherwise on {device}
              </Button>
              {own && (
                <Button
                  onClick={() => setEdit({ rule: r.name, device, reset: true })}
                  aria-label={`As it is on ${device} (${r.name})`}
                >
                  As it is on {device}
                </Button>
              )}
            </li>
          );
        })}
      </ul>
      {edit && (
        <div
          role="group"
          aria-label={`${r.name} on ${edit.device}`}
          className="mt-2 space-y-3 rounded-md border border-line p-3"
        >
          {!edit.reset && (
            <>
              <Lanes
                lanes={edit.lanes ?? lanesOf(edit.device)}
                take={r.take}
                modem={parts.modem}
                change={(lanes) => setEdit({ ...edit, lanes })}
              />
              <div className="grid gap-3 sm:grid-cols-2">
                {(parts.battery || edit.power) && (
                  <TextField
                    label="Power (empty for the rule's, any for none)"
                    hint="charging"
                    value={edit.power ?? ""}
                    change={(power) => setEdit({ ...edit, power })}
                  />
                )}
                <TextField
                  label="Hours (empty for the rule's, any for none)"
                  hint="22:00-06:00"
                  value={edit.hours ?? ""}
                  change={(hours) => setEdit({ ...edit, hours })}
                />
              </div>
            </>
          )}
          <Tried
            key={JSON.stringify(edit)}
            ready
            send={(onlyTry) => sendRule({ ...edit, try: onlyTry })}
            done={done}
          />
        </div>
      )}
    </div>
  );
}

function Checks<T extends string>(props: {
  title: string;
  of: readonly T[];
  on: readonly T[];
  label: (one: T) => string;
  toggle: (one: T) => void;
}) {
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-quiet">{props.title}</legend>
      <div className="flex flex-wrap gap-x-5 gap-y-2">
        {props.of.map((one) => (
          <Check
            key={one}
            label={props.label(one)}
            on={props.on.includes(one)}
            change={() => props.toggle(one)}
          />
        ))}
      </div>
    </fieldset>
  );
}
