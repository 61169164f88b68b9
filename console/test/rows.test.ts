import { describe, expect, it } from "vitest";
import { between, heading, layout, mostHeight, rowAway, scaled, sectionOf, topOf } from "../src/library/rows";

const months = [
  { year: 2026, month: 11, n: 10 },
  { year: 2026, month: 10, n: 1 },
  { year: 2019, month: 2, n: 37 },
];

describe("where faces stand", () => {
  it("draws each of them once, whatever part is in sight", () => {
    for (const width of [240, 358, 1004, 1600]) {
      const l = layout(months, width);
      const seen = new Map<number, number>();
      for (let top = 0; top < l.height; top += 200) {
        const { rows, sections } = between(l, top, top + 200);
        expect(sections.length).toBeGreaterThan(0);
        for (const r of rows) {
          expect(r.n).toBeLessThanOrEqual(l.columns);
          for (let i = r.from; i < r.from + r.n; i++) {
            const before = seen.get(i);
            if (before !== undefined) expect(r.top).toBe(before);
            seen.set(i, r.top);
            expect(topOf(l, i)).toBe(r.top);
          }
        }
      }
      expect([...seen.keys()].sort((a, b) => a - b)).toEqual(Array.from({ length: 48 }, (_, i) => i));
      expect(between(l, 0, l.height).rows.length).toBe(
        months.reduce((n, m) => n + Math.ceil(m.n / l.columns), 0),
      );
      expect(topOf(l, 0)).toBe(heading);
    }
  });
  it("moves by rows over the ends of months, and back", () => {
    const l = layout(months, 1004);
    expect(sectionOf(l, 10)?.month).toBe(10);
    expect(rowAway(l, 3, -1)).toBe(3);
    expect(rowAway(l, 0, 1)).toBe(l.columns);
    expect(rowAway(l, l.columns, 1)).toBe(10);
    expect(rowAway(l, 10, 1)).toBe(11);
    expect(rowAway(l, 11, -1)).toBe(10);
    expect(rowAway(l, 47, 1)).toBe(47);
    for (let i = 0; i < 48; i++) {
      const down = rowAway(l, i, 1);
      expect(down).toBeGreaterThanOrEqual(i);
      expect(topOf(l, down)).toBeGreaterThanOrEqual(topOf(l, i));
    }
  });
  it("scrolls a million in no more than a page can be high", () => {
    const l = layout(
      Array.from({ length: 300 }, (_, i) => ({
        year: 2026 - Math.floor(i / 12),
        month: 12 - (i % 12),
        n: 3400,
      })),
      358,
    );
    expect(l.height).toBeGreaterThan(mostHeight);
    const s = scaled(l, 800);
    expect(s.height).toBe(mostHeight);
    expect((s.height - 800) * s.by).toBeCloseTo(l.height - 800);
    expect(between(l, l.height - 800, l.height).rows.at(-1)?.from).toBeGreaterThan(1_019_000);
  });
});
