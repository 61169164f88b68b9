import { useState } from "react";
import type { Device, StrayFolder } from "../api";
import { Stray } from "../devices/Strays";
import { Button } from "../parts/Button";
import { LookInto } from "../plan/LookInto";

/** Folders with pictures that appeared beside those that are taken up: one question each. */
export default function NewFolders({ devices, className }: { devices: Device[]; className: string }) {
  const list = devices.flatMap((d) => (d.strays?.new ?? []).map((f) => ({ device: d.name, folder: f })));
  if (list.length === 0) return null;
  return (
    <section aria-labelledby="new-folders" className={className}>
      <h2 id="new-folders" className="mb-1 font-semibold">
        New folders
      </h2>
      <ul className="divide-y divide-line">
        {list.map(({ device, folder }) => (
          <NewFolder key={device + folder.folder} device={device} folder={folder} />
        ))}
      </ul>
    </section>
  );
}

function NewFolder({ device, folder: f }: { device: string; folder: StrayFolder }) {
  const [open, setOpen] = useState(false);
  return (
    <li className="pb-2">
      <ul>
        <Stray device={device} folder={f} anew={() => undefined} named />
      </ul>
      <Button
        onClick={() => setOpen(!open)}
        aria-expanded={open}
        aria-label={`What is in it: ${f.folder} of ${device}`}
      >
        What is in it
      </Button>
      {open && <LookInto device={device} folder={f.folder} set={{}} />}
    </li>
  );
}
