import { ShieldCheck } from "lucide-react";
import type { Mine } from "../api";
import { bytes, when } from "../words";

const shown = 30;

/** The one question that a phone's owner has: what may be deleted here. */
export function Given({ mine }: { mine: Mine }) {
  const may = mine.files.filter((f) => f.may);
  const not = mine.files.filter((f) => !f.may);
  if (mine.files.length === 0) {
    return (
      <section aria-label="What may I delete?">
        <h2 className="text-xl font-semibold">What may I delete?</h2>
        <p className="text-quiet">
          Nothing yet: this phone has handed nothing over. Once a picture is safe, this page says that you may
          delete it here.
        </p>
      </section>
    );
  }
  return (
    <section aria-label="What may I delete?" className="space-y-2">
      <h2 className="text-xl font-semibold">What may I delete?</h2>
      <p>
        {may.length === 0
          ? "Nothing yet: keep all of them here for now."
          : `Of the last ${mine.files.length.toLocaleString("en-GB")} that this phone handed over, ${may.length.toLocaleString("en-GB")} may be deleted here.`}
        {not.length > 0 && may.length > 0 && ` Keep ${not.length.toLocaleString("en-GB")} for now.`}
      </p>
      <ul
        aria-label="What this phone handed over"
        className="divide-y divide-line rounded-lg border border-line bg-plank px-4"
      >
        {[...not, ...may].slice(0, shown).map((f) => (
          <li key={f.path + f.at} className="flex gap-3 py-2">
            {f.may ? (
              <ShieldCheck aria-hidden className="mt-0.5 size-5 shrink-0 text-safe" />
            ) : (
              <span aria-hidden className="mt-1.5 size-3 shrink-0 rounded-full border-2 border-waits" />
            )}
            <div className="min-w-0">
              <p className="wrap-anywhere font-semibold">{f.path}</p>
              <p className={`text-sm ${f.may ? "text-safe" : "text-quiet"}`}>{f.says}</p>
              <p className="text-sm text-quiet">
                {bytes(f.bytes)}, {when(f.at)}
              </p>
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}
