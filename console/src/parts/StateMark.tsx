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
