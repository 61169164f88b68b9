import { CornerLeftUp, Folder } from "lucide-react";
import { useState } from "react";
import type { Draft } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { useBrowse } from "./queries";

/** Looks through the folders of a storage that is being set up, and makes new ones. */
export function Folders({ draft, pick }: { draft: Draft; pick: (folder: string) => void }) {
  const [at, setAt] = useState("");
  const [fresh, setFresh] = useState("");
  const browse = useBrowse();
  const base = { ...draft, destination: { ...draft.destination, path: undefined } };
  const go = (folder: string, make = false) =>
    browse.mutate(
      { draft: base, folder, make },
      {
        onSuccess: () => {
          setAt(folder);
          setFresh("");
        },
      },
    );
  const below = (name: string) => (at ? `${at}/${name}` : name);
  if (!browse.data && !browse.isError) {
    return (
      <Button onClick={() => go("")} disabled={browse.isPending}>
        {browse.isPending ? "Looking…" : "Choose a folder"}
      </Button>
    );
  }
  const folders = browse.data?.entries.filter((e) => e.folder && !e.name.startsWith(".")) ?? [];
  return (
    <div role="group" aria-label="Folders" className="space-y-2 rounded-md border border-line p-3">
      <p className="text-sm break-all text-quiet">/{at}</p>
      <Failure error={browse.error} />
      <ul className="max-h-40 overflow-y-auto">
        {at && (
          <li>
            <button
              type="button"
              className="flex items-center gap-2 px-2 py-1 hover:underline"
              onClick={() => go(at.split("/").slice(0, -1).join("/"))}
            >
              <CornerLeftUp aria-hidden className="size-4" /> one up
            </button>
          </li>
        )}
        {folders.map((e) => (
          <li key={e.name}>
            <button
              type="button"
              className="flex items-center gap-2 px-2 py-1 hover:underline"
              onClick={() => go(below(e.name))}
            >
              <Folder aria-hidden className="size-4 text-tide" /> {e.name}
            </button>
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap gap-2">
        <input
          aria-label="New folder"
          placeholder="new folder"
          value={fresh}
          onChange={(e) => setFresh(e.target.value)}
          className="min-w-0 grow rounded-md border border-line bg-paper px-2 py-1"
        />
        <Button onClick={() => go(below(fresh), true)} disabled={!fresh || browse.isPending}>
          Make it
        </Button>
        <Button onClick={() => pick(at)} disabled={!at}>
          Use this folder
        </Button>
      </div>
    </div>
  );
}
