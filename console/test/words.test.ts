import { describe, expect, it } from "vitest";
import type { Copy, Send } from "../src/api";
import { sentences } from "../src/api";
import { firstSentence } from "../src/now/Headline";
import { progress } from "../src/now/Sends";
import { together } from "../src/now/together";
import { reason } from "../src/queue/ItemList";
import { opened, readSearch } from "../src/queue/search";
import {
  and,
  bytes,
  count,
  network,
  ofKind,
  opens,
  plural,
  power,
  span,
  taken,
  things,
  when,
} from "../src/words";
import { pace } from "../src/yard";

describe("words", () => {
  it("writes sizes with one unit, as the terminal does", () => {
    const cases: [number, string][] = [
      [0, "0 B"],
      [999, "999 B"],
      [1000, "1.0 kB"],
      [9949, "9.9 kB"],
      [9950, "10 kB"],
      [23_000_000, "23 MB"],
      [999_600, "1.0 MB"],
      [4.2e12, "4.2 TB"],
    ];
    for (const [n, want] of cases) expect(bytes(n)).toBe(want);
  });

  it("counts in people's words", () => {
    expect(count(1, "needs", "need")).toBe("1 needs");
    expect(count(1204, "send")).toBe("1,204 sends");
    expect(things(1)).toBe("1 picture or clip");
    expect(things(2, ["photo"])).toBe("2 pictures");
    expect(things(1, ["video"])).toBe("1 clip");
    expect(things(3, ["raw", "video"])).toBe("3 pictures and clips");
    expect(things(1, ["photo", "document"])).toBe("1 file");
    expect(plural("raw")).toBe("raw files");
    expect(ofKind(1, "graphic")).toBe("1 graphic");
    expect(ofKind(1200, "raw")).toBe("1,200 raw files");
    expect(plural("photo")).toBe("photos");
    expect(and([])).toBe("");
    expect(and(["shed"])).toBe("shed");
    expect(and(["shed", "locker", "attic"])).toBe("shed, locker and attic");
  });

  it("tells spans roughly", () => {
    expect([0.2, 40, 300, 3 * 3600, 3 * 86400].map(span)).toEqual(["1 s", "40 s", "5 min", "3 h", "3 days"]);
  });

  it("tells times by how near they are", () => {
    const now = new Date("2026-11-25T12:00:00");
    expect(when("2026-11-25T12:00:05", now)).toBe("12:00:05");
    expect(when("2026-11-25T22:00:00", now)).toBe("22:00");
    expect(when("2026-11-26T06:00:00", now)).toMatch(/^Thu,? 06:00$/);
    expect(when("2025-01-02T06:00:00", now)).toBe("2 Jan 2025");
  });

  it("keeps the camera's wall clock whatever zone the browser is in", () => {
    expect(taken("2026-03-01T23:59:00+09:00")).toBe("1 Mar 2026, 23:59");
  });

  it("says what a device senses", () => {
    const c = {
      network: "cellular",
      metered: "yes" as const,
      roaming: "yes" as const,
      charging: "no" as const,
      battery: 64,
      use: "idle",
    } as const;
    expect(network(c)).toBe("cellular, roaming");
    expect(network({ ...c, network: "wifi", roaming: "no" })).toBe("Wi-Fi, metered");
    expect(network({ ...c, network: "none" })).toBe("no network");
    expect(network({ ...c, network: "wifi", networkName: "slip", metered: "unknown", roaming: "no" })).toBe(
      "Wi-Fi slip, metered or not is not known",
    );
    expect(power(c)).toBe("battery 64%, not charging");
    expect(power({ ...c, battery: -1, charging: "yes" })).toBe("mains");
    expect(power({ ...c, battery: -1, charging: "unknown" })).toBe("power not known");
  });

  it("says when a gate opens, or whom it waits for", () => {
    expect(opens({ gate: "power", says: "", needsYou: false })).toBe("no opening time known");
    expect(opens({ gate: "place", says: "", needsYou: true })).toBe("needs you");
  });
});

describe("the glance", () => {
  it("adds the states of all devices", () => {
    const all = together([
      { states: { safe: { n: 2, bytes: 20 }, waiting: { n: 1, bytes: 5 } } },
      { states: { safe: { n: 3, bytes: 30 } } },
    ]);
    expect(all).toEqual({ safe: { n: 5, bytes: 50 }, waiting: { n: 1, bytes: 5 } });
  });

  it("leaves to the legend what follows the first sentence", () => {
    expect(firstSentence("118 of 124 pictures and clips are safe. 6 wait, 2.3 MB.")).toBe(
      "118 of 124 pictures and clips are safe.",
    );
    expect(firstSentence("Nothing found yet.")).toBe("Nothing found yet.");
  });

  it("tells how far a send is, and how long still", () => {
    const s: Send = {
      item: "k-1",
      name: "keel.jpg",
      kind: "photo",
      destination: "locker",
      state: "sending",
      bytes: 8e6,
      sent: 2e6,
      rate: 1e6,
      metered: true,
      beginsAnew: false,
    };
    expect(progress(s)).toBe("2.0 MB of 8.0 MB, 1.0 MB/s, 6 s still, metered");
    expect(progress({ ...s, rate: 0, metered: false })).toBe("2.0 MB of 8.0 MB");
    expect(progress({ ...s, state: "proving" })).toBe("being proven");
    expect(progress({ ...s, state: "preparing", sent: 0 })).toBe("being read");
    expect(progress({ ...s, state: "preparing" })).toBe("being made smaller, 25%");
  });
});

describe("the queue", () => {
  const copy = (change: Partial<Copy>): Copy => ({
    destination: "locker",
    rule: "everyday",
    state: "waiting",
    tries: 0,
    remote: "",
    sha256: "",
    bytes: 8e6,
    reduced: false,
    sentTwice: 0,
    proof: "",
    says: "",
    todo: "",
    holds: [],
    changedAt: "2026-11-25T12:00:00Z",
    ...change,
  });
  const hold = { gate: "network", says: "Waits for Wi-Fi.", needsYou: false } as const;

  it("says one reason once, at however many places", () => {
    const copies = [
      copy({ holds: [hold] }),
      copy({ destination: "loft", holds: [hold] }),
      copy({ state: "safe" }),
    ];
    expect(reason({ says: "Waits for locker and loft.", copies })).toBe(
      "Waits for locker and loft. Waits for Wi-Fi.",
    );
    expect(reason({ says: "Waits for locker.", copies: [copy({})] })).toBe("Waits for locker. Next in line.");
    expect(reason({ says: "Stuck.", copies: [copy({ state: "stuck", says: "Refused." })] })).toBe(
      "Stuck. Refused.",
    );
  });

  it("reads its address, and nothing else", () => {
    expect(readSearch({ state: "safe", hold: 3, device: "", item: "a/k-1", other: "x" })).toEqual({
      state: "safe",
      item: "a/k-1",
    });
    expect(opened("galley/phone/k-1")).toEqual({ device: "galley/phone", key: "k-1" });
    for (const odd of [undefined, "", "k-1", "/k-1", "galley/"]) expect(opened(odd)).toBeUndefined();
  });

  it("asks less often the farther a list was scrolled", () => {
    expect(pace([])).toBe(1000);
    expect(pace([[["items"], { pages: [1, 2, 3] }]])).toBe(3000);
  });
});

describe("answers", () => {
  it("says every mistake on a line of its own", () => {
    expect(
      sentences(
        { detail: "Two mistakes.", errors: [{ location: "a:1", message: "x" }, { message: "y" }] },
        "?",
      ),
    ).toBe("Two mistakes.\na:1: x\ny");
    expect(sentences(undefined, "Bad Gateway")).toBe("Bad Gateway");
  });
});
