import { useState } from "react";
import { Button } from "../parts/Button";
import { Checks, TextField } from "../parts/Field";
import { useYard } from "../yard";
import { words } from "./keys";
import { usePlan } from "./queries";

/** Some Wi-Fi networks by name: those of the plan and those that devices are on are offered. */
export function Networks(props: { label: string; names: string[]; change: (names: string[]) => void }) {
  const { names, change } = props;
  const values = usePlan().data?.values;
  const devices = useYard().data?.devices ?? [];
  const [other, setOther] = useState("");
  const near = devices.flatMap((d) =>
    d.conditions.network === "wifi" ? (d.conditions.networkName ?? []) : [],
  );
  const all = [...new Set([...words(values, "home-networks"), ...near, ...names])];
  return (
    <div className="space-y-3">
      <Checks title={props.label} of={all} on={names} label={(n) => n} change={change} />
      <div className="flex max-w-md items-end gap-2">
        <div className="min-w-0 flex-1">
          <TextField label="Another network" hint="Harbour" value={other} change={setOther} />
        </div>
        <Button
          disabled={other.trim() === ""}
          onClick={() => {
            change([...new Set([...names, other.trim()])]);
            setOther("");
          }}
        >
          Add it
        </Button>
      </div>
    </div>
  );
}
