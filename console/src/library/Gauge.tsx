import { useMemo, useRef } from "react";
import type { Layout } from "./rows";
import { monthName } from "./rows";

/**
 * A tide gauge: all months from the newest down, each as far out as it has items. A press or a drag moves there. It is
 * for pointers; the list of months beside the faces does the same by keyboard.
 */
export function Gauge({ of, at, go }: { of: Layout; at: number; go: (section: number) => void }) {
  const box = useRef<HTMLDivElement>(null);
  const path = useMemo(() => {
    const most = Math.max(1, ...of.sections.map((s) => Math.sqrt(s.n)));
    const step = 100 / Math.max(1, of.sections.length);
    let line = "M0 0";
    of.sections.forEach((s, i) => {
      const out = (4 + (Math.sqrt(s.n) / most) * 92).toFixed(1);
      line += `L${out} ${(i * step).toFixed(3)}L${out} ${((i + 1) * step).toFixed(3)}`;
    });
    return `${line}L0 100Z`;
  }, [of]);
  const years = of.sections.filter((s, i) => i === 0 || of.sections[i - 1]?.year !== s.year);
  const every = Math.ceil(years.length / 14);
  const now = of.sections.findIndex((s) => s.bottom > at);
  const move = (e: React.PointerEvent) => {
    const r = box.current?.getBoundingClientRect();
    if (!r || e.buttons !== 1) return;
    const i = Math.floor(((e.clientY - r.top) / r.height) * of.sections.length);
    go(Math.min(of.sections.length - 1, Math.max(0, i)));
  };
  const share = (i: number) => `${(i / Math.max(1, of.sections.length)) * 100}%`;
  return (
    <div
      ref={box}
      aria-hidden
      title={now >= 0 && of.sections[now] ? monthName(of.sections[now]) : undefined}
      className="sticky top-4 hidden h-[calc(100dvh-2rem)] w-20 shrink-0 cursor-pointer touch-none select-none border-l border-line sm:block"
      onPointerDown={(e) => {
        e.currentTarget.setPointerCapture(e.pointerId);
        move(e);
      }}
      onPointerMove={move}
    >
      <svg viewBox="0 0 100 100" preserveAspectRatio="none" className="absolute inset-y-0 left-0 h-full w-10">
        <path d={path} className="fill-wash" />
      </svg>
      {years.map((s, i) =>
        i % every === 0 ? (
          <span
            key={`${s.year}-${s.month}`}
            className="absolute right-0 text-xs text-quiet"
            style={{ top: share(of.sections.indexOf(s)) }}
          >
            {s.year}
          </span>
        ) : null,
      )}
      {now >= 0 && (
        <span className="absolute left-0 h-0.5 w-12 bg-tide" style={{ top: `calc(${share(now)} + 2px)` }} />
      )}
    </div>
  );
}
