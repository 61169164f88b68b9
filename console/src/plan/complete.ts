import schema from "../../../docs/plan.schema.json";

/** What may stand at a place of the plan's text, by the plan's own schema. */

type Node = {
  $ref?: string;
  type?: string;
  description?: string;
  properties?: Record<string, Node>;
  additionalProperties?: Node | boolean;
  items?: Node;
  enum?: (string | number)[];
  examples?: (string | number)[];
};

export type Offer = { text: string; says: string };

const whole = schema as unknown as Node & { $defs: Record<string, Node> };

function resolved(n: Node | undefined): Node | undefined {
  const name = n?.$ref?.replace("#/$defs/", "");
  return name ? { ...whole.$defs[name], description: n?.description ?? whole.$defs[name]?.description } : n;
}

type Line = { indent: number; key?: string; entry: boolean };

/** A line's indent (of its key, past the dash of an entry), and its key. */
function read(line: string): Line | undefined {
  const m = /^(\s*)(- +)?(?:([^\s#:][^:#]*):(?:\s|$))?/.exec(line);
  if (!m || line.trim() === "" || line.trim().startsWith("#")) return undefined;
  return { indent: (m[1] ?? "").length + (m[2] ?? "").length, key: m[3]?.trim(), entry: m[2] !== undefined };
}

/** The part of the schema for the block in which a line of an indent stands. */
function around(lines: string[], at: number, indent: number): Node | undefined {
  const path: Line[] = [];
  let below = indent;
  for (let i = at - 1; i >= 0 && below > 0; i--) {
    const l = read(lines[i] ?? "");
    if (!l) continue;
    if (l.indent < below && l.key !== undefined) {
      path.unshift(l);
      below = l.entry ? l.indent - 2 : l.indent;
      // An entry's own keys stand beside its first: what is above them is the list's key.
      if (l.entry) below = Math.max(below, 0) + 1;
    } else if (l.indent === below && l.entry) {
      below = l.indent - 1;
    }
  }
  let node: Node | undefined = whole;
  for (const l of path) {
    const n: Node | undefined = resolved(node);
    const next: Node | undefined =
      n?.properties?.[l.key ?? ""] ??
      (typeof n?.additionalProperties === "object" ? n.additionalProperties : undefined);
    node = resolved(next);
    if (node?.type === "array") node = resolved(node.items);
  }
  return resolved(node);
}

/** What may stand where the caret is: the values of a key on its line, else keys that are not there yet. */
export function offers(text: string, caret: number): Offer[] {
  const before = text.slice(0, caret);
  const lines = text.split("\n");
  const at = before.split("\n").length - 1;
  const line = lines[at] ?? "";
  const own = read(line);
  const indent = own?.indent ?? line.length;
  const block = around(lines, at, indent);
  if (own?.key !== undefined && before.slice(before.lastIndexOf("\n") + 1).includes(":")) {
    const value = resolved(block?.properties?.[own.key]);
    const of = value?.type === "array" ? resolved(value.items) : value;
    return (of?.enum ?? of?.examples ?? []).map((v) => ({ text: String(v), says: value?.description ?? "" }));
  }
  const there = new Set<string>();
  for (const step of [-1, 1]) {
    for (let i = at + step; i >= 0 && i < lines.length; i += step) {
      const l = read(lines[i] ?? "");
      if (!l) continue;
      if (l.indent < indent) break;
      if (l.indent === indent && l.key) there.add(l.key);
      if (l.entry && l.indent === indent) break;
    }
  }
  return Object.entries(block?.properties ?? {})
    .filter(([key]) => !there.has(key) || key === own?.key)
    .map(([key, n]) => ({ text: `${key}: `, says: resolved(n)?.description ?? "" }));
}
