import { useState } from "react";
import type { Destination } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { TextField } from "../parts/Field";
import { Landings } from "../parts/Landings";
import { useEdit } from "../plan/queries";
import { useLandings } from "./queries";

/** Where items land at a destination, shown with the keeper's own before it is changed. */
export function Layout({ destination: d }: { destination: Destination }) {
  const [layout, setLayout] = useState<string>();
  const show = useLandings(d.name);
  const change = useEdit();
  const done = () => setLayout(undefined);
  if (layout === undefined) {
    return (
      <p className="mt-4 flex flex-wrap items-center gap-3">
        <span className="text-sm text-quiet">
          Lands as <span className="font-mono">{d.layout}</span>
        </span>
        <Button
          onClick={() => {
            setLayout(d.layout);
            show.mutate(d.layout);
          }}
          aria-label={`Change the names at ${d.name}`}
        >
          Names
        </Button>
      </p>
    );
  }
  return (
    <form
      aria-label={`Names at ${d.name}`}
      className="mt-4 space-y-3 rounded-md border border-line p-3"
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate(
          { edits: [{ path: ["destinations", d.name, "layout"], value: layout }] },
          { onSuccess: done },
        );
      }}
    >
      <TextField
        label="Of {year} {month} {day} {hour} {minute} {second} {device} {camera} {source} {folder} {kind}, and {name} or {sequence} last"
        hint="{year}/{month}/{name}"
        value={layout}
        change={(typed) => {
          setLayout(typed);
          if (typed) show.mutate(typed);
        }}
      />
      <p className="text-sm text-quiet">
        It counts for what is sent from now on; nothing that is there is moved.
      </p>
      <Failure error={show.error ?? change.error} />
      {show.data && !show.error && <Landings names={show.data} />}
      <div className="flex gap-2">
        <Button strong type="submit" disabled={layout === d.layout || change.isPending || show.isError}>
          Name them so
        </Button>
        <Button onClick={done}>Leave it</Button>
      </div>
    </form>
  );
}
