import type { LookFolder, LookKind, LookLibrary, LookPicture, LookYear } from "../api";
import { bytes, count, ofKind } from "../words";
import { Button } from "./Button";
import { SmallPicture } from "./Face";

type Figures = {
  kinds: LookKind[];
  years: LookYear[];
  folders: LookFolder[];
  pictures: LookPicture[];
  libraries: LookLibrary[];
};

const most = 8; // folders that are told

/** What is in a folder: of which kinds and years, where most of it lies, and a few pictures. */
export function FolderFigures(props: {
  look: Figures;
  job: string;
  pick?: (folder: string) => void;
  can?: (folder: string) => boolean;
  only?: (library: string) => void; // takes only its originals
  leaveOut?: (folder: string) => void;
}) {
  const { look: l, job, pick, can } = props;
  const below = l.folders.filter((f) => f.name !== ".").slice(0, most);
  return (
    <div className="mt-3 space-y-4 rounded-md border border-line p-3">
      {l.kinds.length === 0 ? (
        <p className="text-quiet">Nothing is in it that could be taken up.</p>
      ) : (
        <ul className="flex flex-wrap gap-x-5 gap-y-1">
          {l.kinds.map((k) => (
            <li key={k.kind}>
              {ofKind(k.n, k.kind)}, <span className="text-quiet">{bytes(k.bytes)}</span>
            </li>
          ))}
        </ul>
      )}
      {l.pictures.length > 0 && job !== "" && (
        <ul className="flex flex-wrap gap-2">
          {l.pictures.map((p, i) => (
            <li key={p.path}>
              <SmallPicture
                at={`/api/v1/jobs/${encodeURIComponent(job)}/pictures/${i}`}
                kind={p.kind}
                says={p.path}
                className="size-16"
              />
            </li>
          ))}
        </ul>
      )}
      <Libraries libraries={l.libraries} only={props.only} leaveOut={props.leaveOut} />
      <Years years={l.years} />
      {below.length > 0 && (
        <ul aria-label="Folders in it, the largest first">
          {below.map((f) => (
            <li key={f.name} className="flex flex-wrap items-center justify-between gap-x-3 py-1">
              <span className="min-w-0 wrap-anywhere">
                {f.name}{" "}
                <span className="text-quiet">
                  {count(f.n, "file")}, {bytes(f.bytes)}
                </span>
              </span>
              {pick && can?.(f.name) && (
                <Button onClick={() => pick(f.name)} aria-label={`This one alone: ${f.name}`}>
                  This one alone
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

/** Closed libraries: what is taken of them, and what is unclear. */
function Libraries(props: {
  libraries: LookLibrary[];
  only?: (library: string) => void;
  leaveOut?: (folder: string) => void;
}) {
  const { libraries, only, leaveOut } = props;
  if (libraries.length === 0) return null;
  return (
    <ul aria-label="Closed libraries" className="space-y-2">
      {libraries.map((l) => (
        <li key={l.folder} className="space-y-1 rounded-md bg-wash p-2 wrap-anywhere">
          <p>{l.says}</p>
          {only && !l.only && l.smaller.n > 0 && (
            <Button onClick={() => only(l.folder)} aria-label={`Only its originals: ${l.folder}`}>
              Only its originals
            </Button>
          )}
          {l.doubts.map((d) => (
            <div
              key={d.path}
              className="flex flex-wrap items-center justify-between gap-2 rounded-md bg-lamp p-2"
            >
              <p className="min-w-0 flex-1 basis-60">
                {d.says} {d.todo}
              </p>
              {leaveOut && (
                <Button onClick={() => leaveOut(d.path)} aria-label={`Leave it out: ${d.path}`}>
                  Leave it out
                </Button>
              )}
            </div>
          ))}
        </li>
      ))}
    </ul>
  );
}

/** How much was taken in which year. */
function Years({ years }: { years: LookYear[] }) {
  if (years.length < 2) return null;
  const first = years[0]?.year ?? 0;
  const all = Array.from({ length: (years.at(-1)?.year ?? first) - first + 1 }, (_, i) => {
    const year = first + i; // one in which nothing was taken is a gap
    return years.find((y) => y.year === year) ?? { year, n: 0, bytes: 0 };
  });
  const top = Math.max(...years.map((y) => y.n));
  const says = years.map((y) => `${y.year}: ${count(y.n, "file")}`).join(", ");
  return (
    <div role="img" aria-label={`By year. ${says}`}>
      <div className="flex h-16 items-end gap-px" aria-hidden>
        {all.map((y) => (
          <div
            key={y.year}
            title={`${y.year}: ${count(y.n, "file")}, ${bytes(y.bytes)}`}
            className="min-w-1 flex-1 rounded-t bg-tide"
            style={{ height: y.n > 0 ? `${Math.max(4, (100 * y.n) / top)}%` : 0 }}
          />
        ))}
      </div>
      <div className="flex justify-between text-sm text-quiet" aria-hidden>
        <span>{first}</span>
        <span>{years.at(-1)?.year}</span>
      </div>
    </div>
  );
}
