import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Device, type StrayFolder, type Strays as Found } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { adding, parts, words } from "../plan/keys";
import { Choose } from "../plan/KeyField";
import { LookInto } from "../plan/LookInto";
import { useEdit, usePlan } from "../plan/queries";
import { bytes, count, things } from "../words";

/** The pictures and clips of a device that no folder of the plan takes up, looked for when it is asked. */
export function Strays({ device: d }: { device: Device }) {
  const device = d.name;
  const [asked, setAsked] = useState(false);
  const found = useQuery({
    queryKey: ["strays", device],
    enabled: asked,
    queryFn: () => body(api.GET("/api/v1/devices/{device}/strays", { params: { path: { device } } })),
  });
  if (!asked) {
    return (
      <div className="mt-4 space-y-2">
        {d.strays && (
          <p className="text-sm text-quiet">
            Coverage: {d.strays.coverage} of 100 pictures and clips that were seen lie in its folders
            {d.strays.unseen > 0 &&
              `; ${count(d.strays.unseen, "folder was", "folders were")} not looked into`}
            .
          </p>
        )}
        <Button
          onClick={() => setAsked(true)}
          aria-label={`Look for pictures outside its folders, on ${device}`}
        >
          Look for pictures outside its folders
        </Button>
      </div>
    );
  }
  return (
    <section aria-label={`Strays on ${device}`} className="mt-4 rounded-md border border-line p-3">
      {found.isFetching && <p role="status">Looking&hellip;</p>}
      {found.error && <Failure error={found.error} />}
      {found.data && <Listed device={device} found={found.data} anew={() => void found.refetch()} />}
    </section>
  );
}

function Listed({ device, found, anew }: { device: string; found: Found; anew: () => void }) {
  return (
    <>
      <p>{found.says}</p>
      <ul className="mt-2 divide-y divide-line">
        {found.folders.map((f) => (
          <Stray key={f.folder} device={device} folder={f} anew={anew} />
        ))}
      </ul>
      <Libraries device={device} libraries={found.libraries} anew={anew} />
      {found.unseen.length > 0 && (
        <details className="mt-2 text-sm text-quiet">
          <summary className="cursor-pointer">
            {count(found.unseen.length + found.left, "folder was", "folders were")} not looked into
          </summary>
          <ul className="mt-1 space-y-1">
            {found.unseen.map((u) => (
              <li key={u.path} className="wrap-anywhere">
                {u.path}: {u.says}
              </li>
            ))}
          </ul>
        </details>
      )}
    </>
  );
}

const none = {}; // all of it

/** One folder with strays: it is taken up by a rule, or let be for good. */
export function Stray(props: {
  device: string;
  folder: StrayFolder;
  anew: () => void;
  named?: boolean; // with its device
}) {
  const { device, folder: f, anew, named } = props;
  const plan = usePlan().data;
  const edit = useEdit();
  const [chosen, setRule] = useState<string>();
  const [open, setOpen] = useState(false);
  const rules = plan?.rules.map((r) => r.name) ?? [];
  const usual = words(plan?.values, "devices", device, "sources", "#0", "rules")[0]; // as its first folder
  const rule = chosen ?? usual ?? rules[0] ?? "";
  const put = (key: string, value: unknown) => {
    edit.mutate(
      { edits: [adding(plan?.values, device, key, value)], base: plan?.version ?? 0 },
      { onSuccess: anew },
    );
  };
  const what = `${things(
    f.n,
    f.kinds.map((k) => k.kind),
  )}, ${bytes(f.bytes)}`;
  return (
    <li className="flex flex-wrap items-end justify-between gap-3 py-2">
      <div className="min-w-0">
        <p className="font-semibold wrap-anywhere">
          {f.alone ? `${f.folder} itself` : f.folder}
          {named && <span className="font-normal text-quiet"> of {device}</span>}
        </p>
        <p className="text-sm text-quiet">
          {what}, the newest of {f.newest.slice(0, 10)}
          {f.libraries.length > 0 &&
            `; ${count(f.libraries.length, "closed library", "closed libraries")} in it, of which only the originals are taken`}
        </p>
        {edit.error && <Failure error={edit.error} />}
      </div>
      <div className="flex flex-wrap items-end gap-2">
        <Choose
          label={`Rule for ${f.folder}`}
          value={rule}
          of={rules.map((r) => [r, r] as const)}
          change={setRule}
        />
        <Button
          onClick={() =>
            put("sources", {
              folder: f.folder,
              rules: [rule],
              ...(f.libraries.length > 0 && { "originals-only": f.libraries }),
            })
          }
          disabled={rule === "" || edit.isPending}
          aria-label={`Take it up: ${f.folder}`}
        >
          Take it up
        </Button>
        <Button
          onClick={() => setOpen(!open)}
          aria-expanded={open}
          aria-label={`What is in it: ${f.folder}${named ? ` of ${device}` : ""}`}
        >
          What is in it
        </Button>
        <Button
          onClick={() => put("let-be", f.folder)}
          disabled={edit.isPending || words(plan?.values, "devices", device, "let-be").includes(f.folder)}
          aria-label={`Let it be: ${f.folder}`}
        >
          Let it be
        </Button>
      </div>
      {open && (
        <div className="basis-full">
          <LookInto device={device} folder={f.folder} set={none} atOnce />
        </div>
      )}
    </li>
  );
}

/** Closed libraries of which smaller versions are taken, too: one click ends that. */
function Libraries(props: { device: string; libraries: Found["libraries"]; anew: () => void }) {
  const { device, libraries, anew } = props;
  const plan = usePlan().data;
  const edit = useEdit();
  if (libraries.length === 0) return null;
  const only = (source: string, folder: string) => {
    const sources = parts(plan?.values, "devices", device, "sources");
    const n = sources.findIndex((s) => s.folder === source);
    const path = ["devices", device, "sources", `#${n}`, "originals-only"];
    edit.mutate(
      {
        edits: [{ path, value: [...words(sources[n], "originals-only"), folder] }],
        base: plan?.version ?? 0,
      },
      { onSuccess: anew },
    );
  };
  return (
    <ul className="mt-2 space-y-2" aria-label="Closed libraries">
      {libraries.map((l) => (
        <li key={l.path} className="flex flex-wrap items-center justify-between gap-2 rounded-md bg-lamp p-2">
          <p className="min-w-0 flex-1 basis-60 wrap-anywhere">{l.says}</p>
          <Button
            onClick={() => only(l.source, l.folder)}
            disabled={edit.isPending}
            aria-label={`Only its originals: ${l.folder}`}
          >
            Only its originals
          </Button>
        </li>
      ))}
      {edit.error && <Failure error={edit.error} />}
    </ul>
  );
}
