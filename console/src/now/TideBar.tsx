import { Link } from "@tanstack/react-router";
import type { Device } from "../api";
import { bytes } from "../words";

const parts = [
  { name: "safe", states: ["safe"], fill: "fill-safe", dot: "bg-safe" },
  { name: "on the way", states: ["preparing", "sending"], fill: "fill-moving", dot: "bg-moving" },
  { name: "proving", states: ["proving"], fill: "fill-owed", dot: "bg-owed" },
  { name: "waiting", states: ["waiting"], fill: "fill-waits", dot: "bg-waits" },
  { name: "stuck", states: ["stuck"], fill: "fill-stuck", dot: "bg-stuck" },
];

/** How far the tide is in: the shares of all items as one level, with its legend in words. */
export function TideBar({ states }: { states: Device["states"] }) {
  const amounts = parts.map((p) => ({
    ...p,
    n: p.states.reduce((sum, s) => sum + (states[s]?.n ?? 0), 0),
    bytes: p.states.reduce((sum, s) => sum + (states[s]?.bytes ?? 0), 0),
  }));
  const all = amounts.reduce((sum, p) => sum + p.n, 0);
  const skipped = states["skipped"]?.n ?? 0;
  let x = 0;
  return (
    <div className="mt-3">
      <svg
        viewBox="0 0 400 22"
        preserveAspectRatio="none"
        aria-hidden
        className="h-5 w-full overflow-hidden rounded"
      >
        <rect width="400" height="22" className="fill-wash" />
        {all > 0 &&
          amounts.map((p) => {
            const from = x;
            x += (400 * p.n) / all;
            return p.n > 0 && <path key={p.name} d={wave(from, x)} className={p.fill} />;
          })}
      </svg>
      <ul className="mt-2 flex flex-wrap gap-x-5 gap-y-1" aria-label="Pictures and clips by state">
        {amounts
          .filter((p) => p.n > 0)
          .map((p) => (
            <li key={p.name} className="inline-flex items-center gap-1.5">
              <span aria-hidden className={`size-2.5 rounded-full ${p.dot}`} />
              {p.states.length === 1 ? (
                <Link
                  to="/queue"
                  search={{ state: p.states[0] }}
                  className="underline decoration-line underline-offset-4 hover:decoration-tide"
                >
                  {p.n.toLocaleString("en-GB")} {p.name}
                </Link>
              ) : (
                <span>
                  {p.n.toLocaleString("en-GB")} {p.name}
                </span>
              )}
              <span className="text-quiet">{bytes(p.bytes)}</span>
            </li>
          ))}
        {skipped > 0 && (
          <li className="text-quiet">
            <Link
              to="/queue"
              search={{ state: "skipped" }}
              className="underline decoration-line underline-offset-4 hover:decoration-tide"
            >
              {skipped} skipped
            </Link>
          </li>
        )}
        {all === 0 && <li className="text-quiet">Nothing found yet.</li>}
      </ul>
    </div>
  );
}

/** A block whose upper edge is water. */
function wave(from: number, to: number): string {
  const steps = Math.max(2, Math.round((to - from) / 8));
  const points = Array.from({ length: steps + 1 }, (_, i) => {
    const x = from + ((to - from) * i) / steps;
    return `L${x.toFixed(1)} ${(3.2 + 1.6 * Math.sin(x / 9)).toFixed(2)}`;
  });
  return `M${from.toFixed(1)} 22 ${points.join(" ")} L${to.toFixed(1)} 22Z`;
}
