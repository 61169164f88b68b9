import { Check, CloudOff } from "lucide-react";
import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import type { Found, FoundItem } from "../api";
import { Face } from "../parts/Face";
import { PickOne } from "../parts/PickOne";
import { called, stateWords, taken } from "../words";
import { Gauge } from "./Gauge";
import { useItemsAt } from "./queries";
import type { Question } from "./question";
import { between, layout, monthName, rowAway, scaled, topOf, type Layout } from "./rows";

type Props = {
  q: Question;
  found: Found;
  open: (item: FoundItem) => void;
  chosen: ReadonlySet<string>;
  choosing: boolean;
  choose: (item: FoundItem) => void;
  /** What stands beside the months to go to. */
  head: React.ReactNode;
};

export const keyOf = (i: FoundItem) => `${i.device}/${i.key}`;

/** The faces of what was found, month by month. Only those in sight are drawn, however many there are. */
export function Faces({ q, found, open, chosen, choosing, choose, head }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const el = box.current;
    if (!el) return;
    const see = new ResizeObserver(() => setWidth(el.clientWidth));
    see.observe(el);
    setWidth(el.clientWidth);
    return () => see.disconnect();
  }, []);
  const l = useMemo(() => layout(found.months, Math.max(width, 240)), [found.months, width]);
  const view = useScrolled(box, l);
  const screen = innerHeight;
  const { sections, rows } = between(l, view.top - screen / 2, view.top + 1.5 * screen);
  const first = rows[0]?.from ?? 0;
  const last = rows.at(-1);
  const item = useItemsAt(q, found.version, first, last ? last.from + last.n : 0);
  const shift = view.shift; // of heights that are larger than a page can be
  const [active, setActive] = useState(0);
  const [focused, setFocused] = useState(false);
  useEffect(() => {
    if (focused) document.getElementById(`face-${active}`)?.focus({ preventScroll: true });
  }, [active, focused, rows.length, view.top]);
  const keys = (e: React.KeyboardEvent) => {
    const to: Record<string, number> = {
      ArrowRight: active + 1,
      ArrowLeft: active - 1,
      ArrowDown: rowAway(l, active, 1),
      ArrowUp: rowAway(l, active, -1),
      Home: 0,
      End: found.n - 1,
    };
    const next = to[e.key];
    if (next === undefined || e.ctrlKey || e.metaKey) return;
    e.preventDefault();
    const is = Math.min(found.n - 1, Math.max(0, next));
    setActive(is);
    setFocused(true);
    view.reveal(topOf(l, is), l.tile);
  };
  const here = l.sections.findIndex((s) => s.bottom > view.top);
  return (
    <div className="flex gap-3">
      <div className="min-w-0 grow">
        <div className="mb-2 flex flex-wrap items-end justify-between gap-3">
          {head}
          <PickOne
            label="Go to"
            all={l.sections[here] ? monthName(l.sections[here]) : "a month"}
            options={l.sections.map(monthName)}
            pick={(name) => {
              const s = l.sections.find((one) => monthName(one) === name);
              if (!s) return;
              view.go(s.top);
              setActive(s.from);
            }}
          />
        </div>
        <div
          ref={box}
          className="relative"
          style={{ height: view.height }}
          onKeyDown={keys}
          onBlur={(e) => {
            if (!e.currentTarget.contains(e.relatedTarget)) setFocused(false);
          }}
          role="toolbar"
          tabIndex={-1}
          aria-label="What was found"
          aria-orientation="vertical"
        >
          {sections.map((s) => (
            <h2
              key={`${s.year}-${s.month}`}
              className="absolute inset-x-0 flex items-baseline gap-2 pt-4 text-lg font-semibold"
              style={{ transform: `translateY(${s.top + shift}px)` }}
            >
              {monthName(s)}
              <span className="text-sm font-normal text-quiet">{s.n.toLocaleString("en-GB")}</span>
            </h2>
          ))}
          {rows.map((r) => (
            <div
              key={r.from}
              className="absolute inset-x-0 flex gap-1.5"
              style={{ transform: `translateY(${r.top + shift}px)`, height: l.tile }}
            >
              {Array.from({ length: r.n }, (_, i) => r.from + i).map((index) => {
                const it = item(index);
                return (
                  <div key={index} style={{ width: l.tile, height: l.tile }}>
                    {it?.key ? (
                      <Tile
                        it={it}
                        id={`face-${index}`}
                        tab={
                          index === active ||
                          (index === first && (active < first || !last || active >= last.from + last.n))
                        }
                        chosen={chosen.has(keyOf(it))}
                        choosing={choosing}
                        focus={() => {
                          setActive(index);
                          setFocused(true);
                        }}
                        press={() => (choosing ? choose(it) : open(it))}
                      />
                    ) : (
                      <div className="size-full rounded bg-wash/50" />
                    )}
                  </div>
                );
              })}
            </div>
          ))}
        </div>
      </div>
      {l.sections.length > 1 && (
        <Gauge of={l} at={view.top + 1} go={(i) => view.go(l.sections[i]?.top ?? 0)} />
      )}
    </div>
  );
}

const lines: Record<string, string> = { safe: "bg-safe", stuck: "bg-stuck", skipped: "bg-rest" };

/** An item's face, with a waterline in the colour of how it stands. */
function Tile(props: {
  it: FoundItem;
  id: string;
  tab: boolean;
  chosen: boolean;
  choosing: boolean;
  focus: () => void;
  press: () => void;
}) {
  const { it } = props;
  const says = [
    it.name,
    it.kind,
    taken(it.takenAt),
    called(it.state, stateWords),
    it.gone ? "no longer on its device" : "",
    it.caption,
  ];
  return (
    <button
      type="button"
      id={props.id}
      tabIndex={props.tab ? 0 : -1}
      aria-label={says.filter(Boolean).join(", ")}
      aria-pressed={props.choosing ? props.chosen : undefined}
      title={it.name}
      onFocus={props.focus}
      onClick={props.press}
      className={`relative block size-full overflow-hidden rounded ${props.chosen ? "ring-4 ring-tide" : ""}`}
    >
      <Face device={it.device} item={it.key} kind={it.kind} className="size-full" />
      {it.state !== "safe" && (
        <span className="absolute right-1 bottom-2 rounded bg-plank/90 px-1 text-xs text-ink">
          {it.state}
        </span>
      )}
      {it.gone && (
        <span className="absolute top-1 right-1 rounded bg-plank/90 p-0.5 text-ink">
          <CloudOff aria-hidden className="size-3.5" />
        </span>
      )}
      {props.chosen && (
        <span className="absolute top-1 left-1 rounded bg-tide p-0.5 text-plank">
          <Check aria-hidden className="size-4" />
        </span>
      )}
      <span className={`absolute inset-x-0 bottom-0 h-1 ${lines[it.state] ?? "bg-waits"}`} />
    </button>
  );
}

/** How far the page is scrolled into a list, in the list's own heights. */
function useScrolled(box: React.RefObject<HTMLDivElement | null>, l: Layout) {
  const [at, setAt] = useState(0); // the page's own
  const offset = useCallback(() => (box.current?.getBoundingClientRect().top ?? 0) + scrollY, [box]);
  const { height, by } = scaled(l, innerHeight);
  useEffect(() => {
    let asked = 0;
    const see = () => {
      cancelAnimationFrame(asked);
      asked = requestAnimationFrame(() => setAt(Math.max(0, scrollY - offset())));
    };
    see();
    addEventListener("scroll", see, { passive: true });
    addEventListener("resize", see);
    return () => {
      cancelAnimationFrame(asked);
      removeEventListener("scroll", see);
      removeEventListener("resize", see);
    };
  }, [offset]);
  const top = at * by;
  const go = (to: number) => scrollTo({ top: offset() + to / by });
  return {
    top,
    height,
    shift: at - top,
    go,
    reveal: (to: number, tall: number) => {
      const head = scrollY < offset() ? (scrollY - offset()) * 1 : top;
      if (to < head) go(to - 60);
      else if (to + tall > head + innerHeight - 40) go(to + tall - innerHeight + 60);
    },
  };
}
