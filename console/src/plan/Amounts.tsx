import { Field, Input, Label } from "@headlessui/react";
import { fieldLook } from "../parts/Field";
import { Choose } from "./KeyField";

/** Controls of sizes, allowances, times and power: a number beside its unit, no words to be spelled. */

const units = ["kB", "MB", "GB", "TB"] as const;
const same = (list: readonly string[]) => list.map((w) => [w, w] as const);

function sizeOf(text: string): { n: number; unit: string } {
  const [, n = "", unit = ""] = /^\s*([\d.]+)\s*([A-Za-z]+)/.exec(text) ?? [];
  return { n: Number(n), unit: units.find((u) => u.toLowerCase() === unit.toLowerCase()) ?? "MB" };
}

/** A number above nothing. */
export function NumberField(props: {
  label: string;
  value: number | undefined;
  least?: number;
  most?: number;
  change: (n: number) => void;
}) {
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Input
        type="number"
        min={props.least ?? 1}
        max={props.most}
        step="any"
        className={fieldLook}
        value={props.value || ""}
        onChange={(e) => props.change(Number(e.target.value))}
      />
    </Field>
  );
}

/** A size; nothing for any. */
export function SizeField(props: { label: string; value: string; change: (size: string) => void }) {
  const { n, unit } = sizeOf(props.value);
  const put = (n: number, unit: string) => props.change(n > 0 ? `${n} ${unit}` : "");
  return (
    <div className="grid max-w-md grid-cols-[1fr_auto] items-end gap-3">
      <NumberField label={props.label} value={n} change={(n) => put(n, unit)} />
      <Choose label="Unit" value={unit} of={same(units)} change={(u) => put(n, u)} />
    </div>
  );
}

const steps = [5, 10, 20, 30, 45, 60, 100, 200, 300, 500, 1000, 2000, 3000, 5000, 10_000, 20_000]; // MB

/** Bytes in a period; nothing for no bound. */
export function AllowanceField(props: { label: string; value: string; change: (allowance: string) => void }) {
  const [size = "", period = "day"] = props.value.split(/\s+per\s+/);
  const { n, unit } = sizeOf(size);
  const put = (n: number, unit: string, per = period) => props.change(n > 0 ? `${n} ${unit} per ${per}` : "");
  const mb = n * ({ kB: 0.001, GB: 1000, TB: 1e6 }[unit] ?? 1);
  const nearest = steps.reduce(
    (best, s, i) => (Math.abs(s - mb) < Math.abs((steps[best] ?? 0) - mb) ? i : best),
    0,
  );
  const from = /^month from day (\d+)$/.exec(period)?.[1];
  return (
    <div className="max-w-xl space-y-3">
      <div className="grid grid-cols-[1fr_auto_auto] items-end gap-3">
        <NumberField label={props.label} value={n} change={(n) => put(n, unit)} />
        <Choose label="Unit" value={unit} of={same(units.slice(0, 3))} change={(u) => put(n, u)} />
        <Choose
          label="in a"
          value={from ? "month" : period}
          of={same(["day", "week", "month"])}
          change={(per) => put(n || 45, unit, per)}
        />
      </div>
      <Slider
        label={`${props.label}, in steps`}
        value={nearest}
        least={0}
        most={steps.length - 1}
        says={n > 0 ? `${n} ${unit}` : "no bound"}
        change={(i) => {
          const mb = steps[i] ?? 45;
          if (mb >= 1000) put(mb / 1000, "GB");
          else put(mb, "MB");
        }}
      />
      {period.startsWith("month") && (
        <NumberField
          label="The month begins on day"
          value={Number(from ?? 1)}
          most={28}
          change={(day) =>
            put(n, unit, day > 1 ? `month from day ${Math.min(28, Math.round(day))}` : "month")
          }
        />
      )}
    </div>
  );
}

function Slider(props: {
  label: string;
  value: number;
  least: number;
  most: number;
  step?: number;
  says: string;
  change: (n: number) => void;
}) {
  return (
    <div className="flex items-center gap-3">
      <input
        type="range"
        aria-label={props.label}
        className="min-w-0 flex-1 accent-tide"
        min={props.least}
        max={props.most}
        step={props.step ?? 1}
        value={props.value}
        aria-valuetext={props.says}
        onChange={(e) => props.change(Number(e.target.value))}
      />
      <span className="w-16 text-right" aria-hidden>
        {props.says}
      </span>
    </div>
  );
}

const lengths = [1, 5, 10, 15, 30, 60, 120, 240, 480];
const spell = (min: number) => (min % 60 === 0 ? `${min / 60} h` : `${min} min`);

/** A length of time; nothing for none. */
export function MinutesField(props: {
  label: string;
  value: string;
  none: string;
  any?: boolean; // any sets what a rule says aside
  change: (minutes: string) => void;
}) {
  const now = parseInt(props.value);
  const all = lengths.includes(now) || isNaN(now) ? lengths : [...lengths, now].sort((a, b) => a - b);
  return (
    <div className="max-w-md">
      <Choose
        label={props.label}
        value={props.value === "any" ? "any" : isNaN(now) ? "" : `${now} min`}
        of={[
          ["", props.none],
          ...(props.any ? [["any", "however long"] as const] : []),
          ...all.map((min) => [`${min} min`, spell(min)] as const),
        ]}
        change={props.change}
      />
    </div>
  );
}

const ways = [
  ["charging", "only on charge"],
  ["charging or at least", "on charge, or above a charge of"],
  ["charging and at least", "on charge, and above a charge of"],
  ["at least", "above a charge of"],
  ["charging for", "on charge for some time"],
] as const;

/** What the charger and the battery must be; nothing for any power. */
export function PowerField(props: {
  label: string;
  value: string;
  none: string;
  any?: boolean;
  change: (power: string) => void;
}) {
  const level = Number(/at least\s+(\d+)/.exec(props.value)?.[1] ?? 40);
  const long = Number(/charging for\s+(\d+)/.exec(props.value)?.[1] ?? 30);
  const joined = /charging for/.test(props.value) && /at least/.test(props.value); // only the text says both
  const way = joined
    ? props.value
    : (ways.findLast(([w]) => props.value.startsWith(w) && (w !== "charging" || props.value === w))?.[0] ??
      props.value);
  const put = (way: string, level: number, long: number) =>
    props.change(
      way.endsWith("at least")
        ? `${way} ${level}%`
        : way === "charging for"
          ? `charging for ${long} min`
          : way,
    );
  return (
    <div className="max-w-md space-y-3">
      <Choose
        label={props.label}
        value={way}
        of={[
          ["", props.none],
          ...(props.any ? [["any", "on any power"] as const] : []),
          ...ways,
          ...(joined ? [[props.value, props.value] as const] : []),
        ]}
        change={(way) => put(way, level, long)}
      />
      {way.endsWith("at least") && (
        <Slider
          label="Charge of the battery"
          value={level}
          least={5}
          most={100}
          step={5}
          says={`${level} %`}
          change={(l) => put(way, l, long)}
        />
      )}
      {way === "charging for" && (
        <MinutesField
          label="For at least"
          value={`${long} min`}
          none="any time"
          change={(m) => (m === "" ? put("charging", level, long) : put(way, level, parseInt(m)))}
        />
      )}
    </div>
  );
}
