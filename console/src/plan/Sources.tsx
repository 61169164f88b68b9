import { Field, Input, Label, Select } from "@headlessui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import type { Plan, PlanEdited, PlanSource, SourceEdit } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { sendSource, useEdit } from "./queries";

const field = "w-full rounded-md border border-line bg-paper px-3 py-1.5 placeholder:text-quiet";

/** An edit of the sources, told before it counts. */
function Consequence({ edit, done }: { edit: SourceEdit; done: () => void }) {
  return <Tried ready={edit.folder !== ""} send={(t) => sendSource({ ...edit, try: t })} done={done} />;
}

/** What an edit would change, before it counts; nothing until it was tried. */
export function Tried(props: {
  ready: boolean;
  send: (onlyTry: boolean) => Promise<PlanEdited>;
  done: () => void;
}) {
  const { ready, send, done } = props;
  const apply = useEdit(send);
  const tried = useMutation({ mutationFn: () => send(true) });
  return (
    <div className="space-y-3" aria-live="polite">
      <div className="flex flex-wrap gap-2">
        <Button disabled={!ready || tried.isPending} onClick={() => tried.mutate()}>
          See what it would change
        </Button>
        <Button
          strong={tried.isSuccess}
          disabled={!tried.isSuccess || apply.isPending}
          onClick={() => apply.mutate(undefined, { onSuccess: done })}
        >
          Put it in force
        </Button>
        <Button onClick={done}>Leave it</Button>
      </div>
      <Failure error={tried.error ?? apply.error} />
      {tried.data && (
        <ul className="list-disc space-y-1 rounded-md bg-wash p-3 pl-8 wrap-anywhere">
          {[...tried.data.says, ...tried.data.notes].map((s) => (
            <li key={s}>{s}</li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** A source of a rule, and the way to take it out of the plan. */
export function TakeOut({ source: s }: { source: PlanSource }) {
  const [leaving, setLeaving] = useState(false);
  const name = `${s.folder} of ${s.device}`;
  return (
    <li className="py-1 text-sm text-quiet">
      <span className="mr-2 wrap-anywhere">{name}</span>
      <Button onClick={() => setLeaving(!leaving)} aria-expanded={leaving} aria-label={`Take out ${name}`}>
        Take out
      </Button>
      {leaving && (
        <div role="group" aria-label={`Take ${name} out of the plan`} className="mt-2">
          <Consequence edit={{ ...s, remove: true }} done={() => setLeaving(false)} />
        </div>
      )}
    </li>
  );
}

/** Has one more folder taken up. */
export function AddSource({ plan: p }: { plan: Plan }) {
  const devices = [...new Set(p.rules.flatMap((r) => r.follows.map((s) => s.device)))].sort();
  const [open, setOpen] = useState(false);
  const [edit, setEdit] = useState<SourceEdit>({
    device: devices[0] ?? "",
    folder: "",
    rule: p.rules[0]?.name,
  });
  if (!open) {
    return (
      <div className="mt-3">
        <Button onClick={() => setOpen(true)}>Add a folder</Button>
      </div>
    );
  }
  const set = (change: Partial<SourceEdit>) => setEdit({ ...edit, ...change });
  return (
    <div role="group" aria-label="Add a folder" className="mt-3 space-y-3 rounded-md border border-line p-3">
      <div className="grid gap-3 sm:grid-cols-3">
        <Choose label="Device" value={edit.device} of={devices} change={(device) => set({ device })} />
        <Field>
          <Label className="mb-1 block text-sm text-quiet">Folder</Label>
          <Input
            className={field}
            placeholder="such as Pictures"
            value={edit.folder}
            onChange={(e) => set({ folder: e.target.value })}
          />
        </Field>
        <Choose
          label="Rule"
          value={edit.rule ?? ""}
          of={p.rules.map((r) => r.name)}
          change={(rule) => set({ rule })}
        />
      </div>
      <Consequence key={JSON.stringify(edit)} edit={edit} done={() => setOpen(false)} />
    </div>
  );
}

function Choose(props: { label: string; value: string; of: string[]; change: (value: string) => void }) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Select className={field} value={props.value} onChange={(e) => props.change(e.target.value)}>
        {props.of.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </Select>
    </Field>
  );
}
