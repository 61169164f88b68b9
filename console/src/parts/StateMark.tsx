import {
  Check,
  CircleAlert,
  CircleSlash,
  Clock,
  Cog,
  ScanSearch,
  Upload,
  type LucideIcon,
} from "lucide-react";
import { stateWords } from "../words";

const marks: Record<string, { icon: LucideIcon; tone: string }> = {
  waiting: { icon: Clock, tone: "text-waits" },
  preparing: { icon: Cog, tone: "text-moving" },
  sending: { icon: Upload, tone: "text-moving" },
  proving: { icon: ScanSearch, tone: "text-moving" },
  safe: { icon: Check, tone: "text-safe" },
  stuck: { icon: CircleAlert, tone: "text-stuck" },
  skipped: { icon: CircleSlash, tone: "text-quiet" },
};

/** A state in a word, with its sign. */
export function StateMark({ state }: { state: string }) {
  const mark = marks[state];
  const Icon = mark?.icon ?? Clock;
  return (
    <span className={`inline-flex items-center gap-1.5 font-semibold ${mark?.tone ?? ""}`}>
      <Icon aria-hidden className="size-4 shrink-0" />
      {stateWords[state] ?? state}
    </span>
  );
}

/** A sign for each place of an item, named for whoever cannot see it. */
export function PlaceMarks({ copies }: { copies: { destination: string; state: string }[] }) {
  return (
    <span className="flex justify-end gap-1">
      {copies.map((c) => {
        const mark = marks[c.state];
        const Icon = mark?.icon ?? Clock;
        return (
          <span key={c.destination} title={`${c.destination}: ${c.state}`} className={mark?.tone ?? ""}>
            <Icon aria-hidden className="size-4" />
            <span className="sr-only">
              {c.destination}: {c.state}
            </span>
          </span>
        );
      })}
    </span>
  );
}
