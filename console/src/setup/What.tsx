import { Field, Input, Label, Switch } from "@headlessui/react";
import { useState } from "react";
import type { SetupDevice, SetupFolder, SetupNow } from "../api";
import { Browse } from "../parts/Browse";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { fieldLook } from "../parts/Field";
import { FolderFigures } from "../parts/FolderFigures";
import { bytes, count, folderName } from "../words";
import { useChange } from "./queries";

/** Step 3: the folders of each device, each on or off, with what is in it. */
export function What({ now }: { now: SetupNow }) {
  const back = useChange();
  return (
    <>
      {now.devices.map((d) => (
        <OfDevice key={d.name} now={now} device={d} alone={now.devices.length === 1 && d.here} />
      ))}
      {now.devices.length === 0 && (
        <p className="flex flex-wrap items-center gap-3 text-quiet">
          No device has joined yet. <Button onClick={() => back.mutate({ step: 1 })}>Let one join</Button>
        </p>
      )}
      <Fits now={now} />
    </>
  );
}

function OfDevice({ now, device: d, alone }: { now: SetupNow; device: SetupDevice; alone: boolean }) {
  const add = useChange();
  const [path, setPath] = useState("");
  const [browsing, setBrowsing] = useState(false);
  const folders = now.folders.filter((f) => f.device === d.name);
  const of = alone ? "" : ` of ${d.name}`;
  const take = (folder: string) =>
    add.mutate({ on: { device: d.name, folder, on: true } }, { onSuccess: () => setPath("") });
  return (
    <section aria-label={`Folders of ${d.name}`} className="space-y-3">
      {!alone && (
        <h2 className="text-lg font-semibold wrap-anywhere">
          {d.name} {d.here && <span className="text-quiet">(this computer)</span>}
        </h2>
      )}
      {folders.length === 0 && (
        <p className="flex flex-wrap items-center gap-3 text-quiet">
          {d.here
            ? "None of the usual folders is here. Name one below."
            : d.connected
              ? "None of the usual folders is known yet."
              : "It is silent just now: its folders can be chosen when it is heard again, or later on the page Plan."}
          {!d.here && <Button onClick={() => add.mutate({ step: 3 })}>Ask {d.name} again</Button>}
        </p>
      )}
      <ul className="divide-y divide-line">
        {folders.map((f) => (
          <FolderRow key={f.folder} folder={f} of={of} add={take} all={folders} />
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
          <Label className="mb-1 block text-sm text-quiet">Another folder{of}, by its path</Label>
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
        <Button type="submit" disabled={path.trim() === "" || add.isPending} aria-label={`Add it${of}`}>
          Add it
        </Button>
        <Button
          aria-expanded={browsing}
          onClick={() => setBrowsing(!browsing)}
          aria-label={`Browse${of || " this computer"}`}
        >
          Browse
        </Button>
      </form>
      <Failure error={add.error} />
      {browsing && (
        <Browse device={d.name} pick={take} can={(folder) => !folders.some((f) => f.folder === folder)} />
      )}
    </section>
  );
}

function FolderRow({
  folder: f,
  of,
  all,
  add,
}: {
  folder: SetupFolder;
  of: string; // whose it is, where there are several
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
          onChange={(on) => change.mutate({ on: { device: f.device, folder: f.folder, on } })}
          aria-label={`Take up ${name}${of}`}
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
        <Button
          onClick={() => setOpen(!open)}
          aria-expanded={open}
          aria-label={`What is in it: ${name}${of}`}
        >
          What is in it
        </Button>
        {!usual && (
          <Button
            onClick={() =>
              change.mutate({ on: { device: f.device, folder: f.folder, on: false, forget: true } })
            }
            aria-label={`Take off ${name}${of}`}
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
