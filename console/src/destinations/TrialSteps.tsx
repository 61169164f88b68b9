import { Check, X } from "lucide-react";
import type { Trial } from "../api";

/** What was tried at a storage, step by step. */
export function TrialSteps({ trial }: { trial: Trial }) {
  return (
    <div role="status">
      <ol className="space-y-1.5">
        {trial.steps.map((s) => (
          <li key={s.name} className="grid grid-cols-[1.25rem_7rem_minmax(0,1fr)] gap-x-2">
            {s.ok ? (
              <Check className="mt-1 size-4 text-safe" aria-label="went well" role="img" />
            ) : (
              <X className="mt-1 size-4 text-stuck" aria-label="failed" role="img" />
            )}
            <span className="text-quiet">{s.name}</span>
            <span className="wrap-anywhere">
              {s.says} {s.todo && <strong className="block">{s.todo}</strong>}
            </span>
          </li>
        ))}
      </ol>
    </div>
  );
}
