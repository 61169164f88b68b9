import { useState } from "react";
import type { Device, DeviceDay } from "../api";
import { Button } from "../parts/Button";
import { bytes, called } from "../words";
import { useDay } from "./queries";

type Span = { from: number; to: number; says: string; fill: string };

const networkFill: Record<string, string> = {
  wifi: "fill-safe",
  wired: "fill-tide",
  cellular: "fill-waits",
  none: "fill-rest",
};
const powerFill: Record<string, string> = { yes: "fill-safe", no: "fill-rest" };
const useFill: Record<string, string> = { "in use": "fill-waits", idle: "fill-safe" };
const networkName: Record<string, string> = {
  wifi: "Wi-Fi",
  wired: "wired",
  cellular: "cellular",
  none: "no network",
  unknown: "network not known",
};

/** A device's day as bands: its network, its power, its rest, and what became safe; the same as a table. */
export function DayBand({ device: d }: { device: Device }) {
  const [back, setBack] = useState(0);
  const [table, setTable] = useState(false);
  const day = useDay(d.name, back === 0 ? "" : dayBefore(back));
  if (day.isError)
    return <p className="mt-3 text-sm text-quiet">Its day cannot be shown: {day.error.message}</p>;
  if (!day.data) return null;
  const bands = bandsOf(day.data);
  const title = new Intl.DateTimeFormat("en-GB", { weekday: "long", day: "numeric", month: "long" }).format(
    new Date(new Date(day.data.from).getTime() + 12 * 3600_000),
  );
  return (
    <figure className="mt-4">
      <figcaption className="mb-1 flex flex-wrap items-center justify-between gap-2 text-sm">
        <span className="font-semibold">{back === 0 ? `Today, ${title}` : title}</span>
        <span className="flex gap-2">
          <Button onClick={() => setBack(back + 1)} aria-label={`The day before, of ${d.name}`}>
            Before
          </Button>
          <Button
            onClick={() => setBack(back - 1)}
            disabled={back === 0}
            aria-label={`The day after, of ${d.name}`}
          >
            After
          </Button>
          <Button
            onClick={() => setTable(!table)}
            aria-expanded={table}
            aria-label={`The day of ${d.name} as a table`}
          >
            {table ? "As bands" : "As a table"}
          </Button>
        </span>
      </figcaption>
      {table ? <Table bands={bands} /> : <Bands bands={bands} device={d.name} />}
    </figure>
  );
}

function dayBefore(back: number): string {
  const at = new Date(Date.now() - back * 86400_000);
  return `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}-${String(at.getDate()).padStart(2, "0")}`;
}

const rows = ["Network", "Power", "Use", "Runs", "Safe"] as const;
type Bands = Record<(typeof rows)[number], Span[]>;

function bandsOf(day: DeviceDay): Bands {
  const from = new Date(day.from).getTime();
  const end = new Date(day.to).getTime();
  const now = Math.min(Date.now(), end);
  const at = (text: string) => new Date(text).getTime();
  const bands: Bands = { Network: [], Power: [], Use: [], Runs: [], Safe: [] };
  day.senses.forEach((s, i) => {
    const next = day.senses[i + 1];
    const span = { from: at(s.at), to: next ? at(next.at) : now };
    const metered = s.metered === "yes" && s.network !== "cellular" ? ", metered" : "";
    const roams = s.roaming === "yes" ? ", roaming" : "";
    bands.Network.push({
      ...span,
      says: `${networkName[s.network] ?? s.network}${s.networkName ? ` ${s.networkName}` : ""}${metered}${roams}`,
      fill: metered ? "fill-waits" : (networkFill[s.network] ?? "fill-wash"),
    });
    bands.Power.push({
      ...span,
      says: called(s.charging, { yes: "on charge", no: "on battery", unknown: "power not known" }),
      fill: powerFill[s.charging] ?? "fill-wash",
    });
    bands.Use.push({
      ...span,
      says: called(s.use, { "in use": "in use", idle: "nobody uses it", unknown: "use not known" }),
      fill: useFill[s.use] ?? "fill-wash",
    });
  });
  day.runs.forEach((r) =>
    bands.Runs.push({
      from: at(r.from),
      to: at(r.to),
      says: r.stopped ? "ran, and was stopped from outside" : "ran",
      fill: r.stopped ? "fill-stuck" : "fill-tide",
    }),
  );
  day.safe.forEach((s) =>
    bands.Safe.push({
      from: at(s.at),
      to: at(s.at) + 15 * 60_000,
      says: `${s.n.toLocaleString("en-GB")} became safe, ${bytes(s.bytes)}`,
      fill: "fill-moving",
    }),
  );
  for (const row of rows)
    bands[row] = joined(bands[row]).map((s) => ({ ...s, from: s.from - from, to: s.to - from }));
  return bands;
}

/** Spans that say the same, one after the other, are one. */
function joined(spans: Span[]): Span[] {
  const list: Span[] = [];
  for (const s of spans) {
    const last = list[list.length - 1];
    if (last && last.says === s.says && s.from <= last.to) last.to = s.to;
    else list.push({ ...s });
  }
  return list;
}

const day = 86400_000;

function clock(ms: number): string {
  const minutes = Math.round(ms / 60_000);
  return `${String(Math.floor(minutes / 60)).padStart(2, "0")}:${String(minutes % 60).padStart(2, "0")}`;
}

function Bands({ bands, device }: { bands: Bands; device: string }) {
  const x = (ms: number) => (1440 * ms) / day; // minutes
  return (
    <div
      role="img"
      aria-label={`The day of ${device}: network, power, use, when it ran, and what became safe; the table says the same`}
      className="grid grid-cols-[auto_1fr] items-center gap-x-3 gap-y-1 text-sm text-quiet"
    >
      {rows.map((row) => (
        <div key={row} className="contents">
          <span>{row}</span>
          <svg viewBox="0 0 1440 10" preserveAspectRatio="none" className="h-4 w-full rounded-sm">
            <rect width={1440} height={10} className="fill-wash" />
            {bands[row].map((s, n) => (
              <rect
                key={n}
                x={x(s.from)}
                width={Math.max(4, x(s.to) - x(s.from))}
                height={10}
                className={s.fill}
              >
                <title>{`${clock(s.from)} to ${clock(s.to)}: ${s.says}`}</title>
              </rect>
            ))}
          </svg>
        </div>
      ))}
      <span />
      <span className="flex justify-between">
        {["00:00", "06:00", "12:00", "18:00", "24:00"].map((h) => (
          <span key={h}>{h}</span>
        ))}
      </span>
    </div>
  );
}

function Table({ bands }: { bands: Bands }) {
  const all = rows.flatMap((row) => bands[row].map((s) => ({ row, ...s }))).sort((a, b) => a.from - b.from);
  if (all.length === 0) return <p className="text-sm text-quiet">Nothing is known of this day.</p>;
  return (
    <div>
      <table className="w-full text-left text-sm">
        <thead>
          <tr className="text-quiet">
            <th className="pr-4 font-normal">From</th>
            <th className="pr-4 font-normal">To</th>
            <th className="font-normal">What</th>
          </tr>
        </thead>
        <tbody>
          {all.map((s, i) => (
            <tr key={i}>
              <td className="pr-4">{clock(s.from)}</td>
              <td className="pr-4">{clock(s.to)}</td>
              <td>
                {s.row}: {s.says}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
