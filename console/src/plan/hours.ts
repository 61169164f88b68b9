/** The hours of a plan, in the parts that a person chooses: which days, from when, until when. */

export type Span = { days: string; from: string; until: string };

/** The days that are offered by name; others are written from one to another. */
export const daysOffered: readonly (readonly [string, string])[] = [
  ["", "every day"],
  ["mon-fri", "Monday to Friday"],
  ["sat-sun", "Saturday and Sunday"],
  ["mon", "Mondays"],
  ["tue", "Tuesdays"],
  ["wed", "Wednesdays"],
  ["thu", "Thursdays"],
  ["fri", "Fridays"],
  ["sat", "Saturdays"],
  ["sun", "Sundays"],
];

const form = /^\s*(?:([a-z]{3}(?:\s*[-–]\s*[a-z]{3})?)\s+)?(\d{1,2}:\d{2})\s*[-–]\s*(\d{1,2}:\d{2})\s*$/;

const two = (time: string) => time.padStart(5, "0");

/** What a plan says of hours; nothing for text that says none. */
export function spans(text: string): Span[] {
  if (text.trim() === "" || text === "any") return [];
  return text.split(",").flatMap((part) => {
    const [, days = "", from, until] = form.exec(part) ?? [];
    return from && until
      ? [{ days: days.replace(/\s*[-–]\s*/, "-"), from: two(from), until: two(until) }]
      : [];
  });
}

/** As a plan writes them. */
export const hoursText = (list: readonly Span[]) =>
  list.map((s) => `${s.days === "" ? "" : s.days + " "}${s.from}-${s.until}`).join(", ");

const minutes = (time: string) => {
  const [h = 0, m = 0] = time.split(":").map(Number);
  return h * 60 + m;
};

/** The stretches of one day that a span covers, in minutes; over midnight it has two. */
export function stretches(s: Span): [number, number][] {
  const [from, until] = [minutes(s.from), minutes(s.until)];
  if (from < until) return [[from, until]];
  return [
    [from, 1440],
    [0, until],
  ];
}

/** A time of the day from the full hours before and behind it. */
export const fullHour = (hour: number) => `${String(hour).padStart(2, "0")}:00`;
