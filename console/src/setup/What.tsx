import { Field, Input, Label, Switch } from "@headlessui/react";
import { useState } from "react";
import type { SetupFolder, SetupNow } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { fieldLook } from "../parts/Field";
import { FolderFigures } from "../parts/FolderFigures";
import { bytes, count, folderName } from "../words";
import { useChange } from "./queries";

/** Step 2: the folders of this computer, each on or off, with what is in it. */
export function What({ now }: { now: SetupNow }) {
  const add = useChange();
  const [path, setPath] = useState("");
  const take = (folder: string) => add.mutate({ on: { folder, on: true } }, { onSuccess: () => setPath("") });
  return (
    <>
      {now.folders.length === 0 && (
        <p className="text-quiet">None of the usual folders is here. Name one below.</p>
      )}
      <ul className="divide-y divide-line">
        {now.folders.map((f) => (
          <FolderRow key={f.folder} folder={f} add={take} all={now.folders} />
        ))}
      </ul>
      <form
        className="flex flex-wrap items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          take(path);
        }}
      >
        <Field className="min-w-0 grow">
          <Label className="mb-1 block text-sm text-quiet">Another folder, by its path</Label>
          <Input
            className={fieldLook}
            placeholder="such as /srv/scans"
            value={path}
            onChange={(e) => setPath(e.target.value)}
            onDrop={(e) => {
              // A folder that is dropped comes as its address.
              const at = e.dataTransfer.getData("text/uri-list") || e.dataTransfer.getData("text/plain");
              if (!at) return;
              e.preventDefault();
              setPath(decodeURI((at.split("\n")[0] ?? "").trim().replace(/^file:\/\//, "")));
            }}
          />
        </Field>
        <Button type="submit" disabled={path.trim() === "" || add.isPending}>
          Add it
        </Button>
      </form>
      <Failure error={add.error} />
      <Fits now={now} />
    </>
  );
}

function FolderRow({
  folder: f,
  all,
  add,
}: {
  folder: SetupFolder;
  all: SetupFolder[];
  add: (folder: string) => void;
}) {
  const change = useChange();
  const [open, setOpen] = useState(false);
  const usual = /^[A-Z]+$/.test(f.folder);
  const name = folderName(f.folder);
  return (
    <li className="py-3">
      <div className="flex flex-wrap items-center gap-3">
        <Switch
          checked={f.on}
          onChange={(on) => change.mutate({ on: { folder: f.folder, on } })}
          aria-label={`Take up ${name}`}
          className="group inline-flex h-6 w-11 shrink-0 items-center rounded-full border border-line bg-wash data-checked:bg-tide"
        >
          <span className="ml-0.5 size-4.5 rounded-full bg-quiet transition group-data-checked:translate-x-5 group-data-checked:bg-plank" />
        </Switch>
        <span className="min-w-0 flex-1 basis-60 wrap-anywhere">
          <span className="font-semibold">{name}</span> <span className="text-sm text-quiet">{f.path}</span>
          <span className="block" aria-live="polite">
            {f.problem || `${count(f.all.n, "file")}, ${bytes(f.all.bytes)}`}
            {f.counting && <span className="text-quiet"> so far, counting…</span>}
            {!open &&
              f.libraries.map((l) => (
                <span key={l.folder} className="block text-quiet">
                  {l.says}
                </span>
              ))}
          </span>
        </span>
        <Button onClick={() => setOpen(!open)} aria-expanded={open} aria-label={`What is in it: ${name}`}>
          What is in it
        </Button>
        {!usual && (
          <Button
            onClick={() => change.mutate({ on: { folder: f.folder, on: false, forget: true } })}
            aria-label={`Take off ${name}`}
          >
            Take off
          </Button>
        )}
      </div>
      <Failure error={change.error} />
      {open && (
        <FolderFigures
          look={f}
          job={f.job}
          pick={(child) => add(`${f.folder}/${child}`)}
          can={(child) => !f.on && !all.some((o) => o.folder === `${f.folder}/${child}`)}
        />
      )}
    </li>
  );
}

/** What does not fit is said at once. */
function Fits({ now }: { now: SetupNow }) {
  const tight = now.rooms.filter((r) => !r.fits);
  if (tight.length === 0) return null;
  return (
    <ul className="space-y-1 rounded-md bg-lamp p-3" role="status">
      {tight.map((r) => (
        <li key={r.name}>{r.says}</li>
      ))}
    </ul>
  );
}
