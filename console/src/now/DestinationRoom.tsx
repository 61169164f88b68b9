import type { Destination } from "../api";
import { Meter } from "../parts/Meter";
import { bytes } from "../words";

/** A destination and how full it is. */
export function DestinationRoom({ destination: d }: { destination: Destination }) {
  const { free, used } = d.space;
  const known = free >= 0 && used >= 0;
  const text = known
    ? `${bytes(used)} used, ${bytes(free)} free`
    : free >= 0
      ? `${bytes(free)} free`
      : "does not tell its room";
  return (
    <li>
      <div className="mb-1 flex flex-wrap justify-between gap-x-3">
        <span className="font-semibold">{d.name}</span>
        <span className="text-quiet">{text}</span>
      </div>
      {known && (
        <Meter label={`Room at ${d.name}`} value={used} max={used + free} text={text} tone="bg-tide" />
      )}
      {d.says && <p className="mt-2 rounded-md bg-alarm p-2">{d.says}</p>}
      <p className="mt-1 text-sm break-all text-quiet">
        {d.kind}, {d.where}
      </p>
    </li>
  );
}
