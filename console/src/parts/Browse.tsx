import { useQuery } from "@tanstack/react-query";
import { CornerLeftUp, Folder } from "lucide-react";
import { useState } from "react";
import { api, body, type BrowsedFolder } from "../api";
import { bytes, folderName, things } from "../words";
import { Button } from "./Button";
import { Failure } from "./Failure";

/** What lies in a folder of a device. */
function useBrowsed(device: string, folder: string) {
  return useQuery({
    queryKey: ["browse", device, folder],
    staleTime: 60_000,
    retry: false,
    queryFn: () =>
      body(
        api.GET("/api/v1/devices/{device}/browse", {
          params: { path: { device }, query: folder ? { folder } : {} },
        }),
      ),
  });
}

/** Goes from folder to folder of a device, each with the pictures and clips in it, to pick one. */
export function Browse(props: {
  device: string;
  pick: (folder: string) => void;
  can?: (folder: string) => boolean; // may be picked
}) {
  const { device, pick, can } = props;
  const [folder, setFolder] = useState("");
  const browsed = useBrowsed(device, folder);
  const b = browsed.data;
  return (
    <div role="group" aria-label={`Folders of ${device}`} className="rounded-md border border-line">
      <div className="flex flex-wrap items-center gap-2 border-b border-line p-2">
        <Button disabled={!b?.up} onClick={() => setFolder(b?.up ?? "")} aria-label="Up, one folder higher">
          <CornerLeftUp aria-hidden className="size-4" /> Up
        </Button>
        <span className="min-w-0 flex-1 basis-40 font-semibold wrap-anywhere">{b?.path ?? folder}</span>
        {b && folder !== "" && b.problem === "" && (
          <Pick folder={b.folder} name="This folder" taken={b.source} pick={pick} can={can} />
        )}
      </div>
      <div aria-live="polite">
        {browsed.isPending && <p className="p-3 text-quiet">Counting what is in each…</p>}
        <Failure error={browsed.error} />
        {b?.problem && <p className="bg-lamp p-3">{b.problem}</p>}
        {b && b.problem === "" && b.folders.length === 0 && (
          <p className="p-3 text-quiet">No folders lie in it. {here(b.here.n, b.here.bytes)}</p>
        )}
      </div>
      {b && b.folders.length > 0 && (
        <ul className="max-h-80 divide-y divide-line overflow-y-auto" aria-label={`In ${b.path}`}>
          {[...b.folders].sort(bySize).map((f) => (
            <li key={f.name} className="flex flex-wrap items-center gap-2 px-2 py-1.5">
              <button
                type="button"
                onClick={() => setFolder(f.folder)}
                aria-label={`Open ${f.name}`}
                className="flex min-w-0 flex-1 basis-48 items-center gap-2 rounded-sm text-left hover:underline"
              >
                <Folder aria-hidden className="size-4 shrink-0 text-tide" />
                <span className="min-w-0 wrap-anywhere">
                  {f.name} <span className="text-sm text-quiet">{holds(f)}</span>
                </span>
              </button>
              <Pick folder={f.folder} name={f.name} taken={f.source} pick={pick} can={can} />
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

const bySize = (a: BrowsedFolder, b: BrowsedFolder) => b.bytes - a.bytes || a.name.localeCompare(b.name);

const here = (n: number, size: number) =>
  n === 0 ? "No picture or clip is in it." : `${things(n)} in it, ${bytes(size)}.`;

function holds(f: BrowsedFolder): string {
  const much = f.n === 0 ? "no pictures or clips" : `${things(f.n)}, ${bytes(f.bytes)}`;
  return `${f.closed ? "a closed library; " : ""}${f.whole ? much : `${much} and more`}`;
}

function Pick(props: {
  folder: string;
  name: string;
  taken: string;
  pick: (folder: string) => void;
  can?: (folder: string) => boolean;
}) {
  const { folder, name, taken, pick, can } = props;
  if (taken !== "") return <span className="text-sm text-quiet">in the plan as {folderName(taken)}</span>;
  if (can && !can(folder)) return <span className="text-sm text-quiet">in the list</span>;
  return (
    <Button onClick={() => pick(folder)} aria-label={`Take it: ${name}`}>
      Take it
    </Button>
  );
}
