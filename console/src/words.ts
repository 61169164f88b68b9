import type { Conditions, Hold } from "./api";

/** Sizes, times and conditions in words; one form of each for every page. */

const units = ["B", "kB", "MB", "GB", "TB", "PB"];

export function bytes(n: number): string {
  let unit = 0;
  while (n >= 999.5 && unit < units.length - 1) {
    n /= 1000;
    unit++;
  }
  return `${unit > 0 && n < 9.95 ? n.toFixed(1) : Math.round(n)} ${units[unit]}`;
}

export function count(n: number, one: string, many = one + "s"): string {
  return `${n.toLocaleString("en-GB")} ${n === 1 ? one : many}`;
}

const pictures = ["photo", "raw", "graphic"];

/** Items as a person calls them, by the kinds that are among them. */
export function things(n: number, kinds: readonly string[] = []): string {
  const of = (...these: string[]) => kinds.every((k) => these.includes(k));
  if (kinds.length > 0 && of(...pictures)) return count(n, "picture");
  if (kinds.length > 0 && of("video")) return count(n, "clip");
  if (!of(...pictures, "video")) return count(n, "file");
  return n === 1 ? "1 picture or clip" : `${n.toLocaleString("en-GB")} pictures and clips`;
}

const plurals: Record<string, string> = { raw: "raw files", audio: "sound files", other: "other files" };

/** So many of a kind: "1 raw file", "24 photos". */
export function ofKind(n: number, kind: string): string {
  const many = plural(kind);
  return `${n.toLocaleString("en-GB")} ${n === 1 ? many.replace(/s$/, "") : many}`;
}

/** What several of a kind are called. */
export function plural(kind: string): string {
  return plurals[kind] ?? `${kind}s`;
}

/** Words as a sentence joins them: "shed, locker and attic". */
export function and(words: readonly string[]): string {
  if (words.length < 2) return words.join("");
  return `${words.slice(0, -1).join(", ")} and ${words[words.length - 1]}`;
}

/** A time span in seconds, roughly: "40 s", "12 min", "3 h". */
export function span(seconds: number): string {
  if (seconds < 100) return `${Math.max(1, Math.round(seconds))} s`;
  if (seconds < 6000) return `${Math.round(seconds / 60)} min`;
  if (seconds < 48 * 3600) return `${Math.round(seconds / 3600)} h`;
  return `${Math.round(seconds / 86400)} days`;
}

const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const exact = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
const dayClock = new Intl.DateTimeFormat("en-GB", { weekday: "short", hour: "2-digit", minute: "2-digit" });
const date = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });

/** A time near now: the clock today, the weekday within a week, else the date. */
export function when(text: string, now = new Date()): string {
  const at = new Date(text);
  if (Number.isNaN(at.getTime())) return text;
  if (at.toDateString() === now.toDateString()) {
    return Math.abs(at.getTime() - now.getTime()) < 3600_000 ? exact.format(at) : clock.format(at);
  }
  if (Math.abs(at.getTime() - now.getTime()) < 6 * 86400_000) return dayClock.format(at);
  return date.format(at);
}

/** A capture time as the camera's wall clock had it. */
export function taken(text: string): string {
  const [day = "", rest = ""] = text.split("T");
  const [y, m, d] = day.split("-").map(Number);
  const on = new Date(y ?? 0, (m ?? 1) - 1, d ?? 1);
  return Number.isNaN(on.getTime()) ? text : `${date.format(on)}, ${rest.slice(0, 5)}`;
}

/** What a word of the API is called here; a word that this page does not know is shown as it is. */
export function called(word: string, names: Record<string, string>): string {
  return Object.hasOwn(names, word) ? (names[word] ?? word) : word;
}

const networks = {
  unknown: "an unknown network",
  none: "no network",
  wifi: "Wi-Fi",
  wired: "wired network",
  cellular: "cellular",
};

export function network(c: Conditions): string {
  const name = called(c.network, networks);
  if (c.network === "none" || c.network === "unknown") return name;
  const parts = [c.networkName ? `${name} ${c.networkName}` : name];
  if (c.roaming !== "no") parts.push(c.roaming === "yes" ? "roaming" : "roaming not known");
  if (c.metered !== "no" && c.network !== "cellular")
    parts.push(c.metered === "yes" ? "metered" : "metered or not is not known");
  return parts.join(", ");
}

export function power(c: Conditions): string {
  const charging = called(c.charging, { yes: "charging", no: "not charging", unknown: "power not known" });
  if (c.battery >= 0) return `battery ${c.battery}%, ${charging}`;
  return c.charging === "yes" ? "mains" : charging;
}

/** When a hold opens, in words. */
export function opens(h: Hold): string {
  if (h.opens) return `${h.gate === "retry" || h.gate === "trouble" ? "next try" : "opens"} ${when(h.opens)}`;
  return h.needsYou ? "needs you" : "no opening time known";
}

export const stateWords: Record<string, string> = {
  waiting: "waiting",
  preparing: "preparing",
  sending: "sending",
  proving: "proving",
  safe: "safe",
  stuck: "stuck",
  skipped: "skipped",
};

/** What lies beside an item's copy at a place. */
export const shelf = (name: string) =>
  name.startsWith("pick-")
    ? "a pick"
    : called(name, { small: "a small copy", preview: "a preview", jpeg: "a JPEG beside" });

const roles: Record<string, string> = {
  PICTURES: "Pictures",
  VIDEOS: "Videos",
  DOCUMENTS: "Documents",
  DESKTOP: "Desktop",
  DOWNLOAD: "Downloads",
  MUSIC: "Music",
  CAMERA: "Camera",
};

/** A source's folder as people call it: Pictures/Boats for PICTURES/Boats. */
export function folderName(folder: string): string {
  const [first = "", ...rest] = folder.split("/");
  return [roles[first] ?? first, ...rest].join("/");
}
