import type { Yard } from "../api";
import { bytes, count } from "../words";
import { TideBar } from "./TideBar";
import { together } from "./together";

/** The whole yard in a sentence or two, and as the level of a tide. */
export function Headline({ yard }: { yard: Yard }) {
  const sends = yard.devices.flatMap((d) => d.sends);
  const rate = sends.reduce((sum, s) => sum + s.rate, 0);
  const partly = yard.devices.reduce((sum, d) => sum + d.partly.n, 0);
  const notes = [
    partly > 0 && `${count(partly, "of the others lies", "of the others lie")} at one place already.`,
    sends.length > 0 &&
      `${count(sends.length, "send")} on the way${rate > 0 ? `, ${bytes(rate)} a second` : ""}.`,
  ].filter(Boolean);
  return (
    <section aria-labelledby="headline">
      <h1 id="headline" className="text-3xl font-semibold text-balance">
        {firstSentence(yard.says)}
      </h1>
      {notes.length > 0 && <p className="mt-1 text-lg text-quiet">{notes.join(" ")}</p>}
      <TideBar states={together(yard.devices)} />
    </section>
  );
}

/** The counts that follow it stand under the bar, each with a link to what it counts. */
export function firstSentence(says: string): string {
  const end = says.indexOf(". ");
  return end < 0 ? says : says.slice(0, end + 1);
}
