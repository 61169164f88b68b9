import type { FoundMonth } from "../api";

/** Where what was found stands on the page: month by month, in rows of faces. All in CSS pixels. */
export type Layout = {
  sections: Section[];
  columns: number;
  tile: number;
  height: number;
};

/** A month: its heading, and below it its faces. */
export type Section = { year: number; month: number; n: number; from: number; top: number; bottom: number };

/** Faces of one row: the items from one on, so many. */
export type Row = { top: number; from: number; n: number };

export const heading = 48;
const gap = 6;
const least = 108;

export function layout(months: readonly FoundMonth[], width: number): Layout {
  const columns = Math.max(2, Math.floor((width + gap) / (least + gap)));
  const tile = Math.floor((width - gap * (columns - 1)) / columns);
  const sections: Section[] = [];
  let top = 0;
  let from = 0;
  for (const m of months) {
    const bottom = top + heading + Math.ceil(m.n / columns) * (tile + gap);
    sections.push({ year: m.year, month: m.month, n: m.n, from, top, bottom });
    top = bottom;
    from += m.n;
  }
  return { sections, columns, tile, height: top };
}

/** The first section that ends below a height. */
function sectionAt(l: Layout, y: number): number {
  let low = 0;
  let high = l.sections.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((l.sections[middle]?.bottom ?? 0) > y) high = middle;
    else low = middle + 1;
  }
  return low;
}

/** What is to be drawn between two heights. */
export function between(l: Layout, top: number, bottom: number): { sections: Section[]; rows: Row[] } {
  const sections: Section[] = [];
  const rows: Row[] = [];
  const step = l.tile + gap;
  for (let i = sectionAt(l, top); i < l.sections.length; i++) {
    const s = l.sections[i];
    if (!s || s.top >= bottom) break;
    sections.push(s);
    const last = Math.ceil(s.n / l.columns);
    const first = Math.max(0, Math.floor((top - s.top - heading) / step));
    for (let r = first; r < last && s.top + heading + r * step < bottom; r++) {
      const from = s.from + r * l.columns;
      rows.push({ top: s.top + heading + r * step, from, n: Math.min(l.columns, s.from + s.n - from) });
    }
  }
  return { sections, rows };
}

/** The section of an item, by how many stand before it. */
export function sectionOf(l: Layout, index: number): Section | undefined {
  let low = 0;
  let high = l.sections.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    const s = l.sections[middle];
    if (s && s.from + s.n > index) high = middle;
    else low = middle + 1;
  }
  return l.sections[low];
}

/** Where the row of an item begins. */
export function topOf(l: Layout, index: number): number {
  const s = sectionOf(l, index);
  if (!s) return 0;
  return s.top + heading + Math.floor((index - s.from) / l.columns) * (l.tile + gap);
}

/** The item one row up (-1) or down (1) of another: in the same column where there is one. */
export function rowAway(l: Layout, index: number, by: 1 | -1): number {
  const s = sectionOf(l, index);
  if (!s) return index;
  const column = (index - s.from) % l.columns;
  const next = index + by * l.columns;
  if (next >= s.from && next < s.from + s.n) return next;
  const other = l.sections[l.sections.indexOf(s) + by];
  const rows = Math.ceil(s.n / l.columns);
  if (by === 1 && Math.floor((index - s.from) / l.columns) < rows - 1) return s.from + s.n - 1;
  if (!other) return index;
  if (by === 1) return other.from + Math.min(column, other.n - 1);
  const lastRow = Math.floor((other.n - 1) / l.columns) * l.columns;
  return other.from + Math.min(lastRow + column, other.n - 1);
}

/** Browsers draw no element higher than some 30 million pixels: a longer list is scrolled in larger steps. */
export const mostHeight = 12_000_000;

/** How the page's own scrolling maps to a list's heights. */
export function scaled(l: Layout, view: number): { height: number; by: number } {
  if (l.height <= mostHeight) return { height: l.height, by: 1 };
  return { height: mostHeight, by: (l.height - view) / (mostHeight - view) };
}

const names = new Intl.DateTimeFormat("en-GB", { month: "long", year: "numeric", timeZone: "UTC" });

/** What a month is called. */
export const monthName = (m: { year: number; month: number }) => {
  const at = new Date(0);
  at.setUTCFullYear(m.year, m.month - 1, 1);
  return names.format(at);
};
