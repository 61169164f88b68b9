import { Button } from "../parts/Button";
import { Meter } from "../parts/Meter";
import { bytes, span } from "../words";
import { isOpen, type Handing, type Phase, type Picked } from "./handing";

const shown = 12;

const words: Record<Phase, string> = {
  reading: "being looked at",
  known: "was here already",
  waiting: "waits its turn",
  sending: "on its way",
  handed: "handed over",
  away: "waits for the network",
  failed: "could not be handed over",
};

/** How far it is: all together, and each file that is on its way. */
export function Progress(props: { handing: Handing; pause: (on: boolean) => void; awake: boolean }) {
  const { files, paused, rate, says } = props.handing;
  const size = files.reduce((n, f) => n + f.file.size, 0);
  const sent = files.reduce((n, f) => n + f.sent, 0);
  const of = (phase: Phase) => files.filter((f) => f.phase === phase).length;
  const handed = of("handed");
  const known = of("known");
  const failed = of("failed");
  const open = files.filter(isOpen).length;
  const left = rate > 0 && !paused ? `, about ${span((size - sent) / rate)} left` : "";
  const rows = files
    .filter((f) => f.phase !== "handed" && f.phase !== "known")
    .sort((a, b) => order[a.phase] - order[b.phase]);
  const all = `${(handed + known).toLocaleString("en-GB")} of ${files.length.toLocaleString("en-GB")} handed over`;
  return (
    <section aria-label="How far it is" className="space-y-3 rounded-lg border border-line bg-plank p-4">
      <div aria-live="polite">
        <h2 className="text-xl font-semibold">
          {open > 0 ? all : failed > 0 ? `${all}, ${failed} could not be` : "All of them are handed over"}
        </h2>
        {open > 0 && (
          <p className="text-quiet">
            {bytes(size - sent)} to go{rate > 0 && !paused ? `, ${bytes(rate)} a second` : ""}
            {left}
          </p>
        )}
        {open === 0 && handed + known > 0 && (
          <p>
            They are in your household&apos;s inbox. Keep them on this phone until they are safe: that is told
            below, and here whenever you come back. You may close this page.
          </p>
        )}
        {known > 0 && (
          <p className="text-quiet">
            {known === 1 ? "One of them was" : `${known.toLocaleString("en-GB")} of them were`} here already,
            and not sent again.
          </p>
        )}
      </div>
      <Meter label="All together" value={sent} max={size} text={all} />
      {says !== "" && (
        <p role="alert" className="rounded-md bg-lamp p-3">
          {says}
        </p>
      )}
      {open > 0 && (
        <>
          <p className="text-sm">
            {props.awake
              ? "The screen stays on until it is done."
              : "Keep this page open, and the screen on, until it is done. If it goes off, it goes on when you come back."}
          </p>
          <Button onClick={() => props.pause(!paused)}>{paused ? "Go on" : "Pause"}</Button>
        </>
      )}
      {rows.length > 0 && (
        <ul aria-label="Files" className="divide-y divide-line">
          {rows.slice(0, shown).map((f) => (
            <Row key={f.id} file={f} />
          ))}
        </ul>
      )}
      {rows.length > shown && (
        <p className="text-sm text-quiet">and {(rows.length - shown).toLocaleString("en-GB")} more</p>
      )}
    </section>
  );
}

const order: Record<Phase, number> = {
  failed: 0,
  sending: 1,
  away: 2,
  waiting: 3,
  reading: 4,
  handed: 5,
  known: 6,
};

function Row({ file: f }: { file: Picked }) {
  return (
    <li className="py-2">
      <div className="flex justify-between gap-3">
        <span className="min-w-0 truncate font-semibold">{f.file.name}</span>
        <span className="shrink-0 text-sm text-quiet">{bytes(f.file.size)}</span>
      </div>
      {f.phase === "sending" && (
        <Meter
          label={f.file.name}
          value={f.sent}
          max={f.file.size}
          text={`${bytes(f.sent)} of ${bytes(f.file.size)}`}
        />
      )}
      <p className={`text-sm ${f.phase === "failed" ? "text-stuck" : "text-quiet"}`}>
        {f.phase === "known" || f.phase === "failed" ? f.says : words[f.phase]}
      </p>
    </li>
  );
}
