import type { Device, Send } from "../api";
import { Meter } from "../parts/Meter";
import { bytes, count } from "../words";

/** What is on the way right now, each with its bar, bytes and rate. */
export function Sends({ sends, next }: { sends: Send[]; next: Device["going"] }) {
  if (sends.length === 0 && next.n === 0) return null;
  return (
    <div className="mt-5">
      <h3 className="mb-2 font-semibold">On the way</h3>
      <ul className="space-y-2.5">
        {sends.map((s) => (
          <SendRow key={s.copy} send={s} />
        ))}
      </ul>
      {next.n > 0 && (
        <p className="mt-2 text-quiet">
          {count(next.n, "more is", "more are")} next in line, {bytes(next.bytes)}.
        </p>
      )}
    </div>
  );
}

function SendRow({ send: s }: { send: Send }) {
  const text =
    s.state === "sending"
      ? `${bytes(s.sent)} of ${bytes(s.bytes)}`
      : s.state === "proving"
        ? "reading it back"
        : "getting ready";
  return (
    <li>
      <div className="mb-1 flex justify-between gap-3">
        <span className="min-w-0 truncate">
          {s.name} <span className="text-quiet">to {s.destination}</span>
        </span>
        <span className="shrink-0 text-sm text-quiet tabular-nums">
          {text}
          {s.state === "sending" && s.rate > 0 && `, ${bytes(s.rate)}/s`}
          {s.metered && ", metered"}
        </span>
      </div>
      <Meter
        label={`${s.name} to ${s.destination}`}
        value={s.state === "preparing" ? 0 : s.sent}
        max={s.bytes}
        text={text}
      />
      {s.beginsAnew && (
        <p className="mt-1 text-sm text-quiet">
          {s.destination} cannot go on after a cut: this file would begin anew.
        </p>
      )}
    </li>
  );
}
