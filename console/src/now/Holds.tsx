import { Link } from "@tanstack/react-router";
import type { HoldGroup } from "../api";
import { bytes, count, opens } from "../words";

/** Why copies wait, grouped by reason, with counts, bytes and opening time. */
export function Holds({ holds, device }: { holds: HoldGroup[]; device: string }) {
  if (holds.length === 0) return null;
  return (
    <div className="mt-5">
      <h3 className="mb-2 font-semibold">Held</h3>
      <ul className="divide-y divide-line border-y border-line">
        {holds.map((h) => (
          <li key={h.gate + h.says} className="py-2.5">
            <p>{h.says}</p>
            {h.todo && <p className="font-semibold text-stuck">{h.todo}</p>}
            <p className="mt-0.5 flex flex-wrap gap-x-4 text-sm text-quiet">
              <Link
                to="/queue"
                search={{ device, hold: h.gate }}
                className="underline decoration-line underline-offset-4 hover:decoration-tide"
              >
                {count(h.n, "copy", "copies")}
              </Link>
              <span>{bytes(h.bytes)}</span>
              <span>{opens(h)}</span>
            </p>
          </li>
        ))}
      </ul>
    </div>
  );
}
