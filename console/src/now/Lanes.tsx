import { DoorClosed, DoorOpen } from "lucide-react";
import type { Device } from "../api";
import { Meter } from "../parts/Meter";
import { bytes, count, opens } from "../words";

const over: Record<string, string> = { wifi: "Wi-Fi or wired", wired: "wired", cellular: "cellular" };

const spans: Record<string, string> = { day: "today", week: "this week", month: "this month" };

/** Every lane of every device with its gates: open, or shut and why; its allowance as a bar. */
export function Lanes({ devices, className }: { devices: Device[]; className: string }) {
  const lanes = devices.flatMap((d) => d.lanes.map((l) => ({ ...l, device: d.name })));
  if (lanes.length === 0) return null;
  const open = lanes.filter((l) => l.open).length;
  return (
    <details className={className}>
      <summary className="cursor-pointer font-head font-semibold">
        Gates{" "}
        <span className="font-sans font-normal text-quiet">
          {open} of {count(lanes.length, "lane")} open
        </span>
      </summary>
      <ul className="mt-2 space-y-2">
        {lanes.map((l) => (
          <li
            key={`${l.device}/${l.rule}/${l.kind}/${l.destination}/${l.over}`}
            className="grid grid-cols-[1.25rem_1fr] gap-x-2"
          >
            {l.open ? (
              <DoorOpen aria-hidden className="mt-0.5 size-5 text-safe" />
            ) : (
              <DoorClosed aria-hidden className="mt-0.5 size-5 text-waits" />
            )}
            <div>
              <p>
                <span className="font-semibold">
                  {l.device}, {l.kind}s to {l.destination} over {over[l.over]}:
                </span>{" "}
                {l.open ? "open" : "shut"} <span className="text-sm text-quiet">by the rule {l.rule}</span>
              </p>
              {l.holds.map((h) => (
                <p key={h.gate} className="text-sm text-quiet">
                  {h.says} {h.opens && `(${opens(h)})`}
                </p>
              ))}
              {l.limit > 0 && (
                <div className="mt-1 flex items-center gap-3 text-sm text-quiet">
                  <div className="w-32 shrink-0">
                    <Meter
                      label={`Allowance over ${over[l.over]}`}
                      value={l.spent}
                      max={l.limit}
                      text={`${bytes(l.spent)} of ${bytes(l.limit)} spent`}
                      tone="bg-waits"
                    />
                  </div>
                  {bytes(l.spent)} of {bytes(l.limit)} {spans[l.per] ?? spans.month}
                </div>
              )}
            </div>
          </li>
        ))}
      </ul>
    </details>
  );
}
