import type { Device } from "../api";

/** The items of all devices by state. */
export function together(devices: Pick<Device, "states">[]): Device["states"] {
  const all: Device["states"] = {};
  for (const { states } of devices) {
    for (const [state, a] of Object.entries(states)) {
      const sum = (all[state] ??= { n: 0, bytes: 0 });
      sum.n += a.n;
      sum.bytes += a.bytes;
    }
  }
  return all;
}
