import { useState } from "react";
import type { SetupNow } from "../api";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { Landings } from "../parts/Landings";
import { useChange } from "./queries";
import { Lacks, Written } from "./When";

const layouts = [
  { value: "{year}/{month}/{name}", label: "Year and month" },
  { value: "{year}/{name}", label: "Year" },
  { value: "{device}/{year}/{month}/{name}", label: "Device, year, month" },
  { value: "{name}", label: "No folders" },
];

/** Step 5: the folders there, shown with the keeper's own items and the awkward ones. */
export function Names({ now }: { now: SetupNow }) {
  const change = useChange();
  const known = layouts.some((l) => l.value === now.layout);
  const [own, setOwn] = useState(!known);
  return (
    <>
      <Choice
        label="Folders there"
        value={own ? "own" : now.layout}
        options={[...layouts, { value: "own", label: "Of my own" }]}
        change={(v) => {
          setOwn(v === "own");
          if (v !== "own") change.mutate({ layout: v });
        }}
      />
      {own && (
        <Written
          label="Of {year} {month} {day} {hour} {minute} {second} {device} {camera} {source} {folder} {kind}, and {name} or {sequence} last"
          hint="{year}/{month}/{day}/{name}"
          value={now.layout}
          change={(layout) => change.mutate({ layout })}
        />
      )}
      <Failure error={change.error} />
      <Lacks now={now} step={5} />
      <Landings names={now.names} />
    </>
  );
}
