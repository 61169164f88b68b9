import { useState } from "react";
import type { DeviceEdit, PlanDevice } from "../api";
import { Button } from "../parts/Button";
import { TextField } from "../parts/Field";
import { sendDevice } from "./queries";
import { Tried } from "./Tried";

/** A device of the plan: how fast it may send, and its time zone. */
export function DeviceOfPlan({ device: d }: { device: PlanDevice }) {
  const [edit, setEdit] = useState<DeviceEdit>();
  return (
    <li className="py-2">
      <span className="mr-3 wrap-anywhere">
        <span className="font-semibold">{d.device}</span>{" "}
        <span className="text-quiet">
          {d.person && `${d.person}’s, `}
          {d.says}
        </span>
      </span>
      <Button
        onClick={() =>
          setEdit(
            edit ? undefined : { device: d.device, limit: d.limit, timezone: d.timezone, person: d.person },
          )
        }
        aria-expanded={edit !== undefined}
        aria-label={`Change ${d.device}`}
      >
        Change
      </Button>
      {edit && (
        <div
          role="group"
          aria-label={`Change ${d.device}`}
          className="mt-2 space-y-3 rounded-md border border-line p-3"
        >
          <div className="grid gap-3 sm:grid-cols-2">
            <TextField
              label={`How fast ${d.device} may send (empty for no bound)`}
              hint="1 MB/s at 08:00-22:00; 5 MB/s"
              value={edit.limit ?? ""}
              change={(l) => setEdit({ ...edit, limit: l })}
            />
            <TextField
              label={`Time zone of ${d.device} (empty for the yard's)`}
              hint="Europe/Lisbon"
              value={edit.timezone ?? ""}
              change={(timezone) => setEdit({ ...edit, timezone })}
            />
            <TextField
              label={`Whose ${d.device} is (empty for nobody's in particular)`}
              hint="ines"
              value={edit.person ?? ""}
              change={(person) => setEdit({ ...edit, person })}
            />
          </div>
          <Tried
            key={JSON.stringify(edit)}
            ready
            send={(onlyTry) => sendDevice({ ...edit, try: onlyTry })}
            done={() => setEdit(undefined)}
          />
        </div>
      )}
    </li>
  );
}
