import { Field, Input, Label } from "@headlessui/react";
import { useRef } from "react";
import { Button } from "../parts/Button";
import { fieldLook } from "../parts/Field";
import { daysOffered, fullHour, hoursText, spans, stretches, type Span } from "./hours";
import { Choose } from "./KeyField";

const night: Span = { days: "", from: "22:00", until: "06:00" };
const noon: Span = { days: "", from: "12:00", until: "13:30" };

/** The hours in which something may go: each span drawn as a day, to be drawn with the pointer or typed. */
export function Hours(props: { value: string; own?: boolean; change: (hours: string) => void }) {
  const list = spans(props.value);
  const put = (spans: Span[]) => props.change(hoursText(spans));
  return (
    <div className="space-y-3">
      {list.length === 0 && (
        <p className="text-quiet">
          {props.own && props.value !== "any" ? "At the hours that the rule has." : "At any hour."}
        </p>
      )}
      <ol className="space-y-3">
        {list.map((s, i) => (
          <li key={i} className="space-y-2">
            <OneSpan
              span={s}
              n={i}
              change={(now) => put(list.map((was, at) => (at === i ? now : was)))}
              leave={() => put(list.filter((_, at) => at !== i))}
            />
          </li>
        ))}
      </ol>
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => put([...list, list.length === 0 ? night : noon])}>
          {list.length === 0 ? "Only at some hours" : "And at these hours"}
        </Button>
        {props.own && props.value !== "any" && (
          <Button onClick={() => props.change("any")}>At any hour here</Button>
        )}
      </div>
    </div>
  );
}

function OneSpan(props: { span: Span; n: number; change: (span: Span) => void; leave: () => void }) {
  const { span: s, change } = props;
  const nth = props.n === 0 ? "" : ` (${props.n + 1})`;
  const days = daysOffered.some(([word]) => word === s.days)
    ? daysOffered
    : [...daysOffered, [s.days, s.days.replace("-", " to ")] as const];
  return (
    <>
      <Day span={s} change={change} />
      <div className="flex flex-wrap items-end gap-3">
        <Choose label={`On${nth}`} value={s.days} of={days} change={(d) => change({ ...s, days: d })} />
        <Time label={`From${nth}`} value={s.from} change={(from) => change({ ...s, from })} />
        <Time label={`Until${nth}`} value={s.until} change={(until) => change({ ...s, until })} />
        <Button onClick={props.leave} aria-label={`Take out these hours${nth}`}>
          Take out
        </Button>
      </div>
    </>
  );
}

/** A day from midnight to midnight, with what is open. The pointer draws another span; the fields below say the same. */
function Day({ span, change }: { span: Span; change: (span: Span) => void }) {
  const began = useRef<number>(undefined);
  const hourAt = (e: React.PointerEvent) => {
    const box = e.currentTarget.getBoundingClientRect();
    return Math.min(23, Math.max(0, Math.floor(((e.clientX - box.left) / box.width) * 24)));
  };
  const draw = (from: number, to: number) => {
    const [first, last] = from <= to ? [from, to] : [to, from];
    change({ ...span, from: fullHour(first), until: fullHour(last + 1) });
  };
  return (
    <div aria-hidden>
      <div
        className="relative h-9 cursor-crosshair touch-none overflow-hidden rounded-md border border-line bg-paper"
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          began.current = hourAt(e);
          draw(began.current, began.current);
        }}
        onPointerMove={(e) => began.current !== undefined && draw(began.current, hourAt(e))}
        onPointerUp={() => (began.current = undefined)}
        onPointerCancel={() => (began.current = undefined)}
      >
        {stretches(span).map(([from, until]) => (
          <div
            key={from}
            className="absolute inset-y-0 bg-tide"
            style={{ left: `${from / 14.4}%`, width: `${(until - from) / 14.4}%` }}
          />
        ))}
        {[6, 12, 18].map((h) => (
          <div key={h} className="absolute inset-y-0 w-px bg-line" style={{ left: `${h / 0.24}%` }} />
        ))}
      </div>
      <div className="flex justify-between text-sm text-quiet">
        {[0, 6, 12, 18, 24].map((h) => (
          <span key={h}>{h}</span>
        ))}
      </div>
    </div>
  );
}

function Time(props: { label: string; value: string; change: (time: string) => void }) {
  const end = props.value === "24:00"; // a field for times has no such hour
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Input
        type="time"
        className={fieldLook}
        value={end ? "00:00" : props.value}
        onChange={(e) => {
          const time = e.target.value;
          if (time === "") return;
          props.change(props.label.startsWith("Until") && time === "00:00" ? "24:00" : time);
        }}
      />
    </Field>
  );
}
