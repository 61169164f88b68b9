import { Field, Input, Label, Select } from "@headlessui/react";
import { useState } from "react";
import type { SetupNow } from "../api";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { fieldLook } from "../parts/Field";
import { parts, word, words } from "../plan/keys";
import { useChange } from "./queries";

const night = "22:00-06:00";
const powers = [
  { value: "", label: "On any power" },
  { value: "charging", label: "Only while charging" },
  { value: "charging or at least 40%", label: "Charging, or above 40 %" },
];

const rule = ["rules", "everyday"] as const;
const gate = (name: string, value: string) => ({ edits: [{ path: [...rule, "gates", name], value }] });

/** Step 5: networks, allowance, power and hours; what this device cannot have is not there. */
export function When({ now }: { now: SetupNow }) {
  const change = useChange();
  const hours = word(now.values, ...rule, "gates", "hours");
  const day = hours === "" ? "any" : hours === night ? "night" : "own";
  const [own, setOwn] = useState(day === "own");
  const take = words(now.values, ...rule, "take");
  const lanes = parts(now.values, ...rule, "lanes");
  const at = lanes.findIndex((l) => l.over === "cellular");
  const lane = lanes[at];
  const edit = (path: string[], value?: unknown) =>
    change.mutate({ edits: [{ path: [...rule, "lanes", ...path], value }] });
  // A clip takes as much as hundreds of photos: they go over cellular when they are asked to.
  const pictures = take.filter((k) => k !== "video");
  const carries = pictures.length > 0 && pictures.length < take.length ? pictures : undefined;
  return (
    <>
      <p>Over Wi-Fi or cable that costs nothing: always.</p>
      {now.modem !== "no" && (
        <div className="space-y-3">
          <Choice
            label="Over cellular"
            value={lane ? "yes" : "no"}
            options={[
              { value: "no", label: "Never over cellular" },
              { value: "yes", label: "Over cellular, too" },
            ]}
            change={(v) => {
              if (v === "no") return edit([`#${at}`]);
              edit(["+"], { over: "cellular", allowance: "45 MB per day", take: carries });
            }}
          />
          {lane && (
            <Allowance
              value={word(lane, "allowance")}
              change={(allowance) => edit([`#${at}`, "allowance"], allowance)}
              videos={words(lane, "take").length === 0}
              takesVideos={carries !== undefined}
              setVideos={(videos) => edit([`#${at}`, "take"], videos ? undefined : carries)}
            />
          )}
        </div>
      )}
      {now.battery !== "no" && (
        <Choice
          label="Power"
          value={word(now.values, ...rule, "gates", "power")}
          options={powers}
          change={(power) => change.mutate(gate("power", power))}
        />
      )}
      <Choice
        label="Hours"
        value={own ? "own" : day}
        options={[
          { value: "any", label: "At any hour" },
          { value: "night", label: "By night, 22 to 6" },
          { value: "own", label: "At hours of my own" },
        ]}
        change={(v) => {
          setOwn(v === "own");
          if (v !== "own") change.mutate(gate("hours", v === "night" ? night : ""));
        }}
      />
      {own && (
        <Written
          label="Hours, with commas between"
          hint="06:00-23:00"
          value={hours}
          change={(hours) => change.mutate(gate("hours", hours))}
        />
      )}
      <Failure error={change.error} />
    </>
  );
}

function Allowance(props: {
  value: string;
  change: (v: string) => void;
  videos: boolean;
  takesVideos: boolean;
  setVideos: (v: boolean) => void;
}) {
  const [size = "", period = "day"] = props.value.split(" per ");
  return (
    <div className="grid items-end gap-3 sm:grid-cols-3">
      <Written
        label="At most (empty for no bound)"
        hint="45 MB"
        value={size}
        change={(s) => props.change(s.trim() === "" ? "" : `${s.trim()} per ${period}`)}
      />
      <Field>
        <Label className="mb-1 block text-sm text-quiet">in a</Label>
        <Select
          className={fieldLook}
          value={period}
          onChange={(e) => props.change(size === "" ? "" : `${size} per ${e.target.value}`)}
        >
          {["day", "week", "month"].map((p) => (
            <option key={p}>{p}</option>
          ))}
        </Select>
      </Field>
      {props.takesVideos && (
        <label className="flex items-center gap-2 pb-1.5">
          <input
            type="checkbox"
            checked={props.videos}
            onChange={(e) => props.setVideos(e.target.checked)}
            className="size-4 accent-tide"
          />
          videos, too
        </label>
      )}
    </div>
  );
}

/** A field that is sent when it is left, or with the return key. */
export function Written(props: {
  label: string;
  hint: string;
  value: string;
  change: (value: string) => void;
}) {
  const [text, setText] = useState(props.value);
  const send = () => text !== props.value && props.change(text);
  return (
    <Field>
      <Label className="mb-1 block text-sm text-quiet">{props.label}</Label>
      <Input
        className={fieldLook}
        placeholder={`such as ${props.hint}`}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onBlur={send}
        onKeyDown={(e) => e.key === "Enter" && send()}
      />
    </Field>
  );
}
