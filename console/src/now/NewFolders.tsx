import type { Device } from "../api";
import { Stray } from "../devices/Strays";

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
          <Stray key={device + folder.folder} device={device} folder={folder} anew={() => undefined} named />
        ))}
      </ul>
    </section>
  );
}
