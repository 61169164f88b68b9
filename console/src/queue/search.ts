import {
  holdGateValues,
  pathsApiV1ItemsGetParametersQueryStateValues as stateValues,
  pathsApiV1ItemsGetParametersQueryKindValues as kindValues,
} from "../api.gen";

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

/** What can be filtered by, as the service's own lists have it. */
export const states = stateValues;
export const kinds = kindValues;
export const gates = holdGateValues.filter((g) => g !== "kind"); // no item is held by what its rule does not take
