import type { DeviceDay } from "../api";
import { bytes, called } from "../words";

export type Span = { from: number; to: number; says: string; fill: string };

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

export const rows = ["Network", "Power", "Use", "Runs", "Safe"] as const;
export type Bands = Record<(typeof rows)[number], Span[]>;

/** The bands of a day. */
export function bandsOf(day: DeviceDay): Bands {
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
