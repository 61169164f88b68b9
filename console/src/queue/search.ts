/** The Queue page's address holds its filters and the copy that is open. */
export type QueueSearch = { device?: string; state?: string; kind?: string; hold?: string; copy?: string };

export function readSearch(raw: Record<string, unknown>): QueueSearch {
  const search: QueueSearch = {};
  for (const key of ["device", "state", "kind", "hold", "copy"] as const) {
    const v = raw[key];
    if (typeof v === "string" && v !== "") search[key] = v;
  }
  return search;
}

export const states = ["waiting", "preparing", "sending", "proving", "safe", "stuck", "skipped"] as const;
export const kinds = ["photo", "video"] as const;
export const gates = [
  "network",
  "metered",
  "roaming",
  "power",
  "hours",
  "idle",
  "allowance",
  "pause",
  "trouble",
  "retry",
  "proof",
  "space",
  "place",
] as const;
