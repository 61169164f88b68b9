import { Dialog, DialogBackdrop, DialogPanel, DialogTitle, Field, Label } from "@headlessui/react";
import { useMutation } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import type { Draft } from "../api";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { TextField, Check } from "../parts/Field";
import { draftOf, fields, kinds, type Kind } from "./draft";
import { Folders } from "./Folders";
import { JobNote } from "../parts/JobNote";
import { useJob } from "../yard";
import { useAdd, useTry } from "./queries";
import { TrialSteps } from "./TrialSteps";

/** Where a destination goes that was tried: into the plan, or into the first one as it is being made. */
type Into = { says: string; put: (draft: Draft, job: string) => Promise<unknown> };

/** Sets a new destination up: what it is, a trial, and into the plan. */
export function AddDestination({ close, into }: { close: () => void; into?: Into }) {
  const [kind, setKind] = useState<Kind>("folder");
  const [values, setValues] = useState<Record<string, string>>({});
  const [trusted, setTrusted] = useState<Record<string, string>>({});
  const [makeFolder, setMakeFolder] = useState(false);
  const begin = useTry();
  const job = useJob(begin.data);
  const trial = job?.trial;
  const running = begin.isPending || job?.state === "running";
  const toPlan = useAdd();
  const add = useMutation({
    mutationFn: async (d: Draft): Promise<unknown> =>
      into ? into.put(d, job?.id ?? "") : toPlan.mutateAsync(d),
  });
  const draft = draftOf(kind, values, trusted, makeFolder);
  const set = (name: string, value: string) => {
    begin.reset();
    add.reset();
    // Who answers at another address is another: nothing trusted before counts.
    if (name === "address") setTrusted({});
    setValues((v) => ({ ...v, [name]: value }));
  };
  const asks = running ? undefined : trial?.asks;
  const works = !running && trial?.ok;
  const failure = begin.error ?? add.error;
  return (
    <Dialog open onClose={close} className="relative z-20">
      <DialogBackdrop className="fixed inset-0 bg-tide-deep/50" />
      <DialogPanel className="fixed inset-y-0 right-0 w-full max-w-lg overflow-y-auto border-l border-line bg-plank p-5">
        <div className="mb-4 flex items-start justify-between gap-3">
          <DialogTitle className="text-xl font-semibold">
            {into ? "Add a place" : "Add a destination"}
          </DialogTitle>
          <Button onClick={close} aria-label="Close">
            <X aria-hidden className="size-4" />
          </Button>
        </div>
        <form
          className="space-y-4"
          onSubmit={(e) => {
            e.preventDefault();
            begin.mutate(draft);
          }}
        >
          <Choice
            label="What it is"
            value={kind}
            options={kinds}
            change={(k) => {
              begin.reset();
              add.reset();
              setTrusted({});
              // Only its name is the same for every kind.
              setValues((v) => ({ name: v.name ?? "" }));
              setMakeFolder(false);
              setKind(k);
            }}
          />
          <TextField
            label="Name"
            hint="loft"
            value={values.name ?? ""}
            change={(v) => set("name", v)}
            required
          />
          {fields[kind].map((f) => (
            <TextField
              key={f.name}
              label={f.secret ? `${f.label} (kept encrypted)` : f.label}
              hint={f.hint}
              type={f.secret ? "password" : "text"}
              autoComplete={f.secret ? "new-password" : "off"}
              value={values[f.name] ?? ""}
              change={(v) => set(f.name, v)}
              required={!f.optional}
            />
          ))}
          {kind === "sftp" && (
            <Field>
              <Label className="mb-1 block text-sm text-quiet">Private key (kept encrypted)</Label>
              <textarea
                aria-label="Private key"
                rows={3}
                value={values.key ?? ""}
                onChange={(e) => set("key", e.target.value)}
                className="w-full rounded-md border border-line bg-paper px-3 py-1.5 font-mono text-sm"
              />
            </Field>
          )}
          {kind !== "s3" && (
            <Folders
              key={kind}
              draft={draft}
              pick={(folder) => {
                if (kind === "webdav") {
                  set("address", `${(values.address ?? "").replace(/\/*$/, "/")}${encodeURI(folder)}/`);
                } else {
                  set("path", kind === "folder" ? `/${folder}` : folder);
                }
              }}
            />
          )}
          <Check label="Make the folder if it is not there" on={makeFolder} change={setMakeFolder} />
          <Button type="submit" strong={!works} disabled={running}>
            {running ? "Testing…" : "Test it"}
          </Button>
        </form>
        <div className="mt-4 space-y-4" aria-live="polite">
          <Failure error={failure} />
          {job && <JobNote job={job} />}
          {trial && <TrialSteps trial={trial} />}
          {asks && (
            <div role="group" aria-label="Trust it?" className="rounded-md bg-lamp p-3">
              <p className="mb-2">{asks.says}</p>
              <p className="mb-3 font-mono text-sm break-all">{asks.fingerprint}</p>
              <Button
                strong
                onClick={() => {
                  const more = { ...trusted, [asks.field]: asks.fingerprint };
                  setTrusted(more);
                  begin.mutate(draftOf(kind, values, more, makeFolder));
                }}
              >
                Trust it and go on
              </Button>
            </div>
          )}
          {works && (
            <Button strong disabled={add.isPending} onClick={() => add.mutate(draft, { onSuccess: close })}>
              {into?.says ?? "Put it into the plan"}
            </Button>
          )}
        </div>
      </DialogPanel>
    </Dialog>
  );
}
