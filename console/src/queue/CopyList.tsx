import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import type { Copy } from "../api";
import { Button } from "../parts/Button";
import { StateMark } from "../parts/StateMark";
import { bytes, count, opens, taken } from "../words";
import type { useCopies } from "./queries";

const rowHeight = 76;

type Props = {
  pages: ReturnType<typeof useCopies> & { data: NonNullable<unknown> };
  open: (c: Copy) => void;
  clear: () => void;
};

/** The list: only the rows in sight are drawn, further pages come as they are needed. */
export function CopyList({ pages, open, clear }: Props) {
  const rows = pages.data?.pages.flatMap((p) => p.copies) ?? [];
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
        <p className="mb-3">No copy is like this.</p>
        <Button onClick={clear}>Show all</Button>
      </div>
    );
  }
  return (
    <>
      <p className="text-sm text-quiet" role="status">
        {hasNextPage ? "The newest " : ""}
        {count(rows.length, "copy", "copies")}
        {hasNextPage ? "; more come as you scroll" : ", newest first"}
      </p>
      <ul
        ref={list}
        className="relative rounded-lg border border-line bg-plank"
        style={{ height: virtual.getTotalSize() }}
      >
        {shown.map((v) => {
          const c = rows[v.index];
          return (
            c && (
              <li
                key={`${c.device}/${c.id}`}
                aria-setsize={hasNextPage ? -1 : rows.length}
                aria-posinset={v.index + 1}
                className="absolute inset-x-0 border-b border-line last:border-0"
                style={{ height: rowHeight, transform: `translateY(${v.start - top}px)` }}
              >
                <Row copy={c} open={() => open(c)} />
              </li>
            )
          );
        })}
      </ul>
    </>
  );
}

function Row({ copy: c, open }: { copy: Copy; open: () => void }) {
  return (
    <button
      type="button"
      onClick={open}
      className="grid size-full grid-cols-[1fr_auto] items-center gap-x-4 px-4 text-left hover:bg-wash sm:grid-cols-[8rem_1fr_auto]"
    >
      <span className="hidden sm:block">
        <StateMark state={c.state} />
      </span>
      <span className="min-w-0">
        <span className="block truncate font-semibold">{c.name}</span>
        <span className="block truncate text-sm text-quiet">
          <span className="sm:hidden">{c.state}. </span>
          {reason(c)}
        </span>
      </span>
      <span className="text-right text-sm text-quiet">
        <span className="block">{bytes(c.bytes)}</span>
        <span className="block">{c.device}</span>
        <span className="hidden sm:block">{taken(c.takenAt)}</span>
      </span>
    </button>
  );
}

function reason(c: Copy): string {
  const hold = c.holds[0];
  if (hold) return `${hold.says}${hold.opens ? ` (${opens(hold)})` : ""}`;
  if (c.state === "safe") return `${c.destination}: ${c.remote}`;
  if (c.state === "waiting") return "Next in line.";
  return c.says || `To ${c.destination}.`;
}
