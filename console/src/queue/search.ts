/** The Queue page's address holds its filters and the item that is open. */
export type QueueSearch = {
  device?: string;
  state?: string;
  kind?: string;
  hold?: string;
  destination?: string;
  item?: string;
};

export function readSearch(raw: Record<string, unknown>): QueueSearch {
  const search: QueueSearch = {};
  for (const key of ["device", "state", "kind", "hold", "destination", "item"] as const) {
    const v = raw[key];
    if (typeof v === "string" && v !== "") search[key] = v;
  }
  return search;
}

/** The device and the key of the item that is open, as the address has them. */
export function opened(item?: string): { device: string; key: string } | undefined {
  const at = item?.lastIndexOf("/") ?? -1;
  if (!item || at < 1 || at === item.length - 1) return undefined;
  return { device: item.slice(0, at), key: item.slice(at + 1) };
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
