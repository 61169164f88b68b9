import { describe, expect, it } from "vitest";
import { offers } from "../src/plan/complete";

const plan = `format: 2
yard: Slip
destinations:
  shed:
    kind: 
    
devices:
  desk:
    sources:
      - folder: in
        
        rule: all
rules:
  all:
    take: [photo]
    lanes:
      - over: 
        
    gates:
      
`;

/** The caret behind a piece of the text. */
function at(piece: string, more = ""): string[] {
  const from = plan.indexOf(piece) + piece.length;
  return offers(plan.slice(0, from) + more + plan.slice(from), from + more.length).map((o) => o.text);
}

describe("what may stand at a place of the plan", () => {
  it("offers the values of a key", () => {
    expect(at("    kind: ")).toEqual(["folder", "webdav", "sftp", "s3"]);
    expect(at("      - over: ")).toEqual(["wifi", "wired", "cellular"]);
    expect(at("    take: ")).toContain("everything");
  });
  it("offers the keys that are not there yet", () => {
    expect(at("    kind: \n    ")).toContain("keep-free: ");
    expect(at("    kind: \n    ")).not.toContain("kind: ");
    expect(at("      - folder: in\n        ")).toEqual(
      expect.arrayContaining(["leave-out: ", "hidden: ", "new-since: "]),
    );
    expect(at("      - folder: in\n        ")).not.toContain("folder: ");
    expect(at("      - over: \n        ")).toEqual(expect.arrayContaining(["allowance: ", "roaming: "]));
    expect(at("    gates:\n      ")).toEqual(
      expect.arrayContaining(["power: ", "hours: ", "idle: ", "rest: ", "screen: "]),
    );
    expect(at("yard: Slip\n", "")).toEqual(
      expect.arrayContaining(["timezone: ", "destinations: ", "home-networks: ", "people: "]),
    );
  });
  it("says what a key is for, and offers nothing where nothing may stand", () => {
    expect(offers("yard: x\n", 8).every((o) => o.says !== "")).toBe(true);
    expect(offers("nonsense:\n  more:\n    ", 22)).toEqual([]);
    expect(offers("", 0).map((o) => o.text)).toContain("yard: ");
  });
});
