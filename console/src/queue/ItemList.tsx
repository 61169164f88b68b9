import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import type { Copy, Item } from "../api";
import { Button } from "../parts/Button";
import { Face } from "../parts/Face";
import { PlaceMarks, StateMark } from "../parts/StateMark";
import { bytes, opens, taken, things } from "../words";
import type { useItems } from "./queries";

const rowHeight = 76;

type Props = {
  pages: ReturnType<typeof useItems> & { data: NonNullable<unknown> };
  open: (i: Item) => void;
  clear: () => void;
};

/** The list: only the rows in sight are drawn, further pages come as they are needed. */
export function ItemList({ pages, open, clear }: Props) {
  const rows = pages.data?.pages.flatMap((p) => p.items) ?? [];
  const list = useRef<HTMLUListElement>(null);
  const [top, setTop] = useState(0);
  useLayoutEffect(() => setTop(list.current?.offsetTop ?? 0), []);
  const virtual = useWindowVirtualizer({
    count: rows.length,
    estimateSize: () => rowHeight,
    overscan: 8,
    scrollMargin: top,
  });
  const shown = virtual.getVirtualItems();
  const last = shown[shown.length - 1]?.index ?? 0;
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  useEffect(() => {
    if (last >= rows.length - 30 && hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [last, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage]);
  if (rows.length === 0) {
    return (
      <div className="rounded-lg border border-line bg-plank p-8 text-center">
        <p className="mb-3">Nothing is like this.</p>
        <Button onClick={clear}>Show all</Button>
      </div>
    );
  }
  return (
    <>
      <p className="text-sm text-quiet" role="status">
        {hasNextPage ? "The newest " : ""}
        {things(
          rows.length,
          rows.map((r) => r.kind),
        )}
        {hasNextPage ? "; more come as you scroll" : ", newest first"}
      </p>
      <ul
        ref={list}
        className="relative rounded-lg border border-line bg-plank"
        style={{ height: virtual.getTotalSize() }}
      >
        {shown.map((v) => {
          const item = rows[v.index];
          return (
            item && (
              <li
                key={`${item.device}/${item.key}`}
                aria-setsize={hasNextPage ? -1 : rows.length}
                aria-posinset={v.index + 1}
                className="absolute inset-x-0 border-b border-line last:border-0"
                style={{ height: rowHeight, transform: `translateY(${v.start - top}px)` }}
              >
                <Row item={item} open={() => open(item)} />
              </li>
            )
          );
        })}
      </ul>
    </>
  );
}

function Row({ item: i, open }: { item: Item; open: () => void }) {
  return (
    <button
      type="button"
      onClick={open}
      className="grid size-full grid-cols-[auto_1fr_auto] items-center gap-x-3 px-3 text-left hover:bg-wash sm:grid-cols-[auto_7rem_1fr_auto]"
    >
      <Face device={i.device} item={i.key} kind={i.kind} />
      <span className="hidden sm:block">
        <StateMark state={i.state} />
      </span>
      <span className="min-w-0">
        <span className="block truncate font-semibold">{i.name}</span>
        <span className="block truncate text-sm text-quiet">
          <span className="sm:hidden">{i.state}. </span>
          {reason(i)}
        </span>
      </span>
      <span className="text-right text-sm text-quiet">
        <PlaceMarks copies={i.copies} />
        <span className="block">
          {bytes(i.bytes)}, {i.device}
        </span>
        <span className="hidden sm:block">{taken(i.takenAt)}</span>
      </span>
    </button>
  );
}

/** Where an item stands, and why where it waits or is stuck. */
export function reason(i: Pick<Item, "says" | "copies">): string {
  const why = i.copies.map(cause).filter(Boolean);
  return [i.says, ...new Set(why)].join(" ");
}

function cause(c: Copy): string {
  const hold = c.holds[0];
  if (hold) return `${hold.says}${hold.opens ? ` (${opens(hold)})` : ""}`;
  if (c.state === "waiting") return "Next in line.";
  return c.state === "stuck" || c.state === "skipped" ? c.says : "";
}
