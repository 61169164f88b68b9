import { useState } from "react";
import type { SetupNow } from "../api";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { Landings } from "../parts/Landings";
import { word } from "../plan/keys";
import { useChange } from "./queries";
import { Written } from "./When";

const layouts = [
  { value: "{year}/{month}/{name}", label: "Year and month" },
  { value: "{year}/{name}", label: "Year" },
  { value: "{device}/{year}/{month}/{name}", label: "Device, year, month" },
  { value: "{name}", label: "No folders" },
];

/** Step 6: the folders there, shown with the keeper's own items and the awkward ones. */
export function Names({ now }: { now: SetupNow }) {
  const change = useChange();
  const names = now.places.map((p) => p.name); // they all have one layout
  const layout = word(now.values, "destinations", names[0] ?? "", "layout") || "{year}/{month}/{name}";
  const name = (value: string) =>
    change.mutate({ edits: names.map((n) => ({ path: ["destinations", n, "layout"], value })) });
  const known = layouts.some((l) => l.value === layout);
  const [own, setOwn] = useState(!known);
  if (names.length === 0) {
    return <p className="text-quiet">Add a place first: what is said here is how it lies there.</p>;
  }
  return (
    <>
      <Choice
        label="Folders there"
        value={own ? "own" : layout}
        options={[...layouts, { value: "own", label: "Of my own" }]}
        change={(v) => {
          setOwn(v === "own");
          if (v !== "own") name(v);
        }}
      />
      {own && (
        <Written
          label="Of {year} {month} {day} {hour} {minute} {second} {device} {camera} {source} {folder} {kind}, and {name} or {sequence} last"
          hint="{year}/{month}/{day}/{name}"
          value={layout}
          change={name}
        />
      )}
      <Failure error={change.error} />
      <Landings names={now.names} />
    </>
  );
}
