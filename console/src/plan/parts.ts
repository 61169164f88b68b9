import { useYard } from "../yard";

/** What devices have that gates need: at least one of them has it, or nobody knows. */
export type Parts = { modem: boolean; battery: boolean };

/** Of devices that are not known. */
export const all: Parts = { modem: true, battery: true };

/** What some devices have; a gate that none has a part for is not asked for. */
export function useParts(names: string[]): Parts {
  const yard = useYard();
  const devices = yard.data?.devices.filter((d) => names.includes(d.name)) ?? [];
  if (devices.length < new Set(names).size || devices.length === 0) return all;
  return {
    modem: devices.some((d) => d.modem !== "no"),
    // On mains without a level, it has none.
    battery: devices.some((d) => d.conditions.battery >= 0 || d.conditions.charging !== "yes"),
  };
}
