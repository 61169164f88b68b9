import { Dialog, DialogBackdrop, DialogPanel, DialogTitle, Field, Input, Label } from "@headlessui/react";
import { useMutation } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import type { Draft } from "../api";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { Folders } from "./Folders";
import { JobNote } from "../parts/JobNote";
import { useJob } from "../yard";
import { useAdd, useTry } from "./queries";
import { TrialSteps } from "./TrialSteps";

type Kind = "folder" | "webdav" | "sftp" | "s3";

const kinds: { value: Kind; label: string }[] = [
  { value: "folder", label: "A disk or folder" },
  { value: "webdav", label: "A web storage (WebDAV)" },
  { value: "sftp", label: "A box on my network (SSH)" },
  { value: "s3", label: "A bucket (S3)" },
];

/** The fields of each kind, by their name in the form. */
const fields: Record<
  Kind,
  { name: string; label: string; hint: string; secret?: boolean; optional?: boolean }[]
> = {
  folder: [{ name: "path", label: "Folder", hint: "/media/loft" }],
  webdav: [
    { name: "address", label: "Address", hint: "https://locker.example/dav/" },
    { name: "user", label: "User", hint: "", optional: true },
    { name: "password", label: "Password", hint: "", secret: true, optional: true },
  ],
  sftp: [
    { name: "address", label: "Address", hint: "shed.example:22" },
    { name: "user", label: "User", hint: "" },
    { name: "password", label: "Password", hint: "", secret: true, optional: true },
    { name: "path", label: "Folder", hint: "yard", optional: true },
  ],
  s3: [
    { name: "address", label: "Address", hint: "https://s3.example" },
    { name: "bucket", label: "Bucket", hint: "yard" },
    { name: "user", label: "Access key", hint: "" },
    { name: "password", label: "Secret key", hint: "", secret: true },
    { name: "path", label: "Names begin with", hint: "", optional: true },
  ],
};

function draftOf(
  kind: Kind,
  v: Record<string, string>,
  trusted: Record<string, string>,
  makeFolder: boolean,
): Draft {
  const name = v.name ?? "";
  const text = (field: string) => v[field]?.trim() || undefined;
  return {
    name,
    makeFolder,
    password: v.password || undefined,
    key: v.key || undefined,
    destination: {
      kind,
      path: text("path"),
      url: kind === "webdav" || kind === "s3" ? text("address") : undefined,
      address: kind === "sftp" ? text("address") : undefined,
      bucket: text("bucket"),
      user: text("user"),
      ...trusted,
    },
  };
}

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
          <Text label="Name" hint="loft" value={values.name} change={(v) => set("name", v)} required />
          {fields[kind].map((f) => (
            <Text
              key={f.name}
              label={f.label}
              hint={f.hint}
              value={values[f.name]}
              change={(v) => set(f.name, v)}
              secret={f.secret}
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
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={makeFolder}
              onChange={(e) => setMakeFolder(e.target.checked)}
              className="size-4 accent-tide"
            />
            Make the folder if it is not there
          </label>
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

function Text({
  label,
  hint,
  value,
  change,
  secret,
  required,
}: {
  label: string;
  hint: string;
  value?: string;
  change: (v: string) => void;
  secret?: boolean;
  required?: boolean;
}) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">
        {label}
        {secret && " (kept encrypted)"}
      </Label>
      <Input
        type={secret ? "password" : "text"}
        autoComplete={secret ? "new-password" : "off"}
        placeholder={hint && `such as ${hint}`}
        required={required}
        value={value ?? ""}
        onChange={(e) => change(e.target.value)}
        className="w-full rounded-md border border-line bg-paper px-3 py-1.5 placeholder:text-quiet"
      />
    </Field>
  );
}
