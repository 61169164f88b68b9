import { Link } from "@tanstack/react-router";
import type { Device, Send } from "../api";
import { Face } from "../parts/Face";
import { Meter } from "../parts/Meter";
import { bytes, count, span } from "../words";

/** How many of what is on the way are shown each by itself. */
const most = 3;

/** What is on the way right now, each with its bar, bytes, rate and how long still. */
export function Sends({ devices, className }: { devices: Device[]; className: string }) {
  const sends = devices.flatMap((d) => d.sends.map((s) => ({ ...s, device: d.name })));
  const next = devices.reduce((sum, d) => ({ n: sum.n + d.going.n, bytes: sum.bytes + d.going.bytes }), {
    n: 0,
    bytes: 0,
  });
  if (sends.length === 0 && next.n === 0) return null;
  return (
    <section aria-labelledby="sends" className={className}>
      <h2 id="sends" className="mb-1 font-semibold">
        On the way
      </h2>
      <ul className="space-y-1.5">
        {sends.slice(0, most).map((s) => (
          <SendRow key={`${s.device}/${s.item}/${s.destination}/${s.shelf ?? ""}`} send={s} />
        ))}
      </ul>
      <p className="mt-2 text-sm text-quiet empty:hidden">
        {[
          sends.length > most && `${count(sends.length - most, "more is", "more are")} on the way.`,
          next.n > 0 && `${count(next.n, "is", "are")} next in line, ${bytes(next.bytes)}.`,
        ]
          .filter(Boolean)
          .join(" ")}
      </p>
    </section>
  );
}

/** How far a send is, in words. */
export function progress(s: Send): string {
  if (s.state === "proving") return "being proven";
  if (s.state === "preparing" && s.sent > 0) {
    return `being made smaller, ${Math.round((100 * s.sent) / s.bytes)}%`;
  }
  if (s.state !== "sending") return "being read";
  const parts = [`${bytes(s.sent)} of ${bytes(s.bytes)}`];
  if (s.rate > 0 && s.sent < s.bytes) {
    parts.push(`${bytes(s.rate)}/s`, `${span((s.bytes - s.sent) / s.rate)} still`);
  }
  if (s.metered) parts.push("metered");
  return parts.join(", ");
}

function SendRow({ send: s }: { send: Send & { device: string } }) {
  const text = progress(s);
  return (
    <li className="grid grid-cols-[auto_1fr] items-center gap-x-3">
      <Face device={s.device} item={s.item} kind={s.kind} className="size-8" />
      <div className="min-w-0">
        <div className="mb-1 flex flex-wrap justify-between gap-x-3">
          <span className="min-w-0 truncate">
            <Link
              to="/queue"
              search={{ item: `${s.device}/${s.item}` }}
              className="underline decoration-line underline-offset-4 hover:decoration-tide"
            >
              {s.name}
            </Link>{" "}
            <span className="text-quiet">
              from {s.device} to {s.destination}
            </span>
          </span>
          <span className="shrink-0 text-sm text-quiet tabular-nums">{text}</span>
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
      </div>
    </li>
  );
}
