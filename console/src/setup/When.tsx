import { Field, Input, Label, Select } from "@headlessui/react";
import { useState } from "react";
import type { SetupNow } from "../api";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { fieldLook } from "../parts/Field";
import { useChange } from "./queries";

const night = "22:00-06:00";
const powers = [
  { value: "", label: "On any power" },
  { value: "charging", label: "Only while charging" },
  { value: "charging or at least 40%", label: "Charging, or above 40 %" },
];

/** Step 4: networks, allowance, power and hours; what this device cannot have is not there. */
export function When({ now }: { now: SetupNow }) {
  const change = useChange();
  const day = now.hours === "" ? "any" : now.hours === night ? "night" : "own";
  const [own, setOwn] = useState(day === "own");
  return (
    <>
      <p>Over Wi-Fi or cable that costs nothing: always.</p>
      {now.modem !== "no" && (
        <div className="space-y-3">
          <Choice
            label="Over cellular"
            value={now.cellular ? "yes" : "no"}
            options={[
              { value: "no", label: "Never over cellular" },
              { value: "yes", label: "Over cellular, too" },
            ]}
            change={(v) => {
              const cellular = v === "yes";
              change.mutate(
                cellular && now.allowance === "" ? { cellular, allowance: "45 MB per day" } : { cellular },
              );
            }}
          />
          {now.cellular && (
            <Allowance
              value={now.allowance}
              change={(allowance) => change.mutate({ allowance })}
              videos={now.videos}
              takesVideos={now.take.includes("video")}
              setVideos={(videos) => change.mutate({ videos })}
            />
          )}
        </div>
      )}
      {now.battery !== "no" && (
        <Choice
          label="Power"
          value={now.power}
          options={powers}
          change={(power) => change.mutate({ power })}
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
          if (v !== "own") change.mutate({ hours: v === "night" ? night : "" });
        }}
      />
      {own && (
        <Written
          label="Hours, with commas between"
          hint="06:00-23:00"
          value={now.hours}
          change={(hours) => change.mutate({ hours })}
        />
      )}
      <Failure error={change.error} />
      <Lacks now={now} step={4} />
    </>
  );
}

/** What is written wrong, where it was written. */
export function Lacks({ now, step }: { now: SetupNow; step: number }) {
  const here = now.missing.filter((m) => m.step === step);
  if (here.length === 0) return null;
  return (
    <ul role="alert" className="space-y-1 rounded-md bg-alarm p-3">
      {here.map((m) => (
        <li key={m.says}>{m.says}</li>
      ))}
    </ul>
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
