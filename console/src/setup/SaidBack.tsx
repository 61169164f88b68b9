import type { SetupNow } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { word } from "../plan/keys";
import { useChange, useStart } from "./queries";
import { Written } from "./When";

/** Step 7: the whole in a few sentences, what it comes to in numbers, and the start. */
export function SaidBack({ now }: { now: SetupNow }) {
  const change = useChange();
  const start = useStart();
  const counting = now.folders.some((f) => f.on && f.counting);
  return (
    <>
      <Written
        label="What your household is called"
        hint="Home"
        value={word(now.values, "yard")}
        change={(yard) => change.mutate({ edits: [{ path: ["yard"], value: yard }] })}
      />
      {now.missing.length > 0 ? (
        <div className="space-y-2 rounded-md bg-lamp p-3">
          <p>Before it can start:</p>
          <ul className="space-y-2">
            {now.missing.map((m) => (
              <li key={m.says} className="flex flex-wrap items-center gap-x-3 gap-y-1">
                <span className="wrap-anywhere">{m.says}</span>
                {m.step < 7 && <Button onClick={() => change.mutate({ step: m.step })}>Go there</Button>}
              </li>
            ))}
          </ul>
        </div>
      ) : (
        <>
          <ul className="space-y-2" aria-label="What would happen">
            {now.says.map((s) => (
              <li key={s} className="wrap-anywhere">
                {s}
              </li>
            ))}
            {now.rooms.map((r) => (
              <li key={r.name} className={`wrap-anywhere ${r.fits ? "" : "rounded-md bg-lamp p-2"}`}>
                {r.says}
              </li>
            ))}
          </ul>
          {now.notes.length > 0 && (
            <ul aria-label="To think of" className="space-y-1 rounded-md bg-lamp p-3">
              {now.notes.map((n) => (
                <li key={n.says} className="flex flex-wrap items-center gap-x-3 gap-y-1">
                  <span className="min-w-0 flex-1 basis-60 wrap-anywhere">{n.says}</span>
                  {n.step < 7 && <Button onClick={() => change.mutate({ step: n.step })}>Change it</Button>}
                </li>
              ))}
            </ul>
          )}
          <details>
            <summary className="cursor-pointer text-quiet">The plan that it makes</summary>
            <pre className="mt-2 rounded-md whitespace-pre-wrap wrap-anywhere bg-wash p-3 text-sm">
              {now.text}
            </pre>
          </details>
          {counting && (
            <p className="text-quiet">Folders are still being counted; it can start all the same.</p>
          )}
          <Button strong disabled={start.isPending} onClick={() => start.mutate(now.version)}>
            {start.isPending ? "Starting…" : "Start"}
          </Button>
        </>
      )}
      <Failure error={start.error ?? change.error} />
    </>
  );
}
