import { useState } from "react";
import type { SetupNow } from "../api";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
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
          label="Of {year} {month} {day} {hour} {minute} {second} {device} {source} {folder} {kind}, and {name} last"
          hint="{year}/{month}/{day}/{name}"
          value={now.layout}
          change={(layout) => change.mutate({ layout })}
        />
      )}
      <Failure error={change.error} />
      <Lacks now={now} step={5} />
      <table className="w-full table-fixed text-left">
        <caption className="mb-1 text-left text-sm text-quiet">So they would lie there</caption>
        <thead className="sr-only">
          <tr>
            <th scope="col">The file here</th>
            <th scope="col">Its name there</th>
          </tr>
        </thead>
        <tbody className="divide-y divide-line">
          {now.names.map((n, i) => (
            <tr key={i} className="align-top">
              <td className="py-1.5 pr-3 wrap-anywhere">
                {n.from}
                {n.what && <span className="block text-sm text-quiet">{n.what}</span>}
              </td>
              <td className="py-1.5 font-mono text-sm wrap-anywhere">{n.to}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
