/** The Library page's address holds what is asked for, and the item that is open. */
export type Question = {
  text?: string;
  device?: string;
  person?: string;
  folder?: string;
  kind?: string;
  camera?: string;
  at?: string;
  where?: string;
  from?: string;
  to?: string;
  spot?: string;
  marked?: string;
  hidden?: string;
  set?: string;
  item?: string;
};

/** Those parts of it that the service is asked. */
export const asked = [
  "text",
  "device",
  "person",
  "folder",
  "kind",
  "camera",
  "at",
  "where",
  "from",
  "to",
  "spot",
  "marked",
  "hidden",
  "set",
] as const;

export function readQuestion(raw: Record<string, unknown>): Question {
  const q: Question = {};
  for (const key of [...asked, "item"] as const) {
    const v = raw[key];
    if (typeof v === "string" && v !== "") q[key] = v;
    if (typeof v === "number" || v === true) q[key] = String(v);
  }
  return q;
}

/** A question as the service has it: without the item that is open. */
export function query(q: Question): Record<string, string> {
  const is: Record<string, string> = {};
  for (const key of asked) {
    const v = q[key];
    if (v) is[key] = v;
  }
  return is;
}
