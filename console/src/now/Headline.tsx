import type { Yard } from "../api";
import { bytes, count } from "../words";

/** The whole yard in two sentences. */
export function Headline({ yard }: { yard: Yard }) {
  const total = { all: 0, safe: 0, stuck: 0, left: 0, leftBytes: 0 };
  let sends = 0;
  let rate = 0;
  for (const d of yard.devices) {
    for (const [state, a] of Object.entries(d.states)) {
      if (state === "skipped") continue;
      total.all += a.n;
      if (state === "safe") total.safe += a.n;
      else if (state === "stuck") total.stuck += a.n;
      else {
        total.left += a.n;
        total.leftBytes += a.bytes;
      }
    }
    sends += d.sends.length;
    rate += d.sends.reduce((sum, s) => sum + s.rate, 0);
  }
  return (
    <div>
      <h1 className="text-3xl font-semibold text-balance sm:text-4xl">{say(total)}</h1>
      <p className="mt-2 text-lg text-quiet">
        {total.left > 0 &&
          `${count(total.left, "copy is", "copies are")} still to be made safe, ${bytes(total.leftBytes)}. `}
        {sends > 0
          ? `${sends} on the way now${rate > 0 ? `, ${bytes(rate)} a second` : ""}.`
          : total.left > 0
            ? "Nothing is on the way now."
            : ""}
      </p>
    </div>
  );
}

function say(t: { all: number; safe: number; stuck: number }): string {
  if (t.all === 0) return "Nothing found yet.";
  if (t.safe === t.all) return `Everything is safe: ${count(t.all, "copy", "copies")}.`;
  const stuck = t.stuck > 0 ? ` ${count(t.stuck, "needs", "need")} you.` : "";
  return `${t.safe.toLocaleString("en-GB")} of ${t.all.toLocaleString("en-GB")} are safe.${stuck}`;
}
