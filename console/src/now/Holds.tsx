import { Link } from "@tanstack/react-router";
import type { HoldGroup } from "../api";
import { and, bytes, opens, things } from "../words";

/** Why items wait: one line for each reason, with what it holds, where to, and until when. */
export function Holds({ holds, className }: { holds: HoldGroup[]; className: string }) {
  if (holds.length === 0) return null;
  return (
    <section aria-labelledby="holds" className={className}>
      <h2 id="holds" className="mb-1 font-semibold">
        Waits
      </h2>
      <ul className="divide-y divide-line">
        {holds.map((h) => (
          <li key={h.gate + h.says + (h.opens ?? "")} className="py-1">
            <p>
              {h.says} {h.opens && <span className="text-sm text-quiet">({opens(h)})</span>}
            </p>
            <p className="text-sm text-quiet">
              <Link
                to="/queue"
                search={{ hold: h.gate, device: h.devices.length === 1 ? h.devices[0] : undefined }}
                className="underline decoration-line underline-offset-4 hover:decoration-tide"
              >
                {things(h.n, h.kinds)}
              </Link>{" "}
              of {and(h.devices)} for {and(h.destinations)}, {bytes(h.bytes)}
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
