import { Field, Label, Switch } from "@headlessui/react";
import { useState } from "react";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { TextField } from "../parts/Field";
import { useHomeNetwork, useSetHomeNetwork } from "./queries";

/** Whether devices elsewhere reach the service, and where. */
export function HomeNetwork() {
  const home = useHomeNetwork();
  const set = useSetHomeNetwork();
  const [address, setAddress] = useState<string>();
  if (!home.data) return null;
  const h = home.data;
  const on = h.address !== "";
  const typed = address ?? (h.address || h.proposed);
  return (
    <section aria-labelledby="home-network" className="rounded-lg border border-line bg-plank p-5">
      <Field className="flex flex-wrap items-center gap-3">
        <Switch
          checked={on}
          disabled={set.isPending || (!on && typed === "")}
          onChange={(listen) => set.mutate(listen ? typed : "")}
          className="group inline-flex h-6 w-11 items-center rounded-full bg-rest data-checked:bg-tide"
        >
          <span
            aria-hidden
            className="size-4 translate-x-1 rounded-full bg-plank transition group-data-checked:translate-x-6"
          />
        </Switch>
        <Label id="home-network" as="h2" className="font-semibold">
          {on ? "Devices reach this service over the home network" : "Reachable from this computer only"}
        </Label>
      </Field>
      <p className="mt-2 text-sm text-quiet">
        {on
          ? `At ${h.address}, for devices that joined, and for nothing else: this console stays on this computer. What crosses is encrypted; the service's fingerprint is ${h.fingerprint}.`
          : "Switched on, phones and computers in your home network can join, with a one-time code. This console stays on this computer."}
      </p>
      {h.problem && <p className="mt-2 rounded-md bg-alarm p-3">{h.problem}</p>}
      {(!on || h.problem) && (
        <div className="mt-3 flex max-w-md flex-wrap items-end gap-3">
          <TextField
            label="Address of this computer, with a port"
            hint="192.168.1.20:7443"
            value={typed}
            change={setAddress}
          />
          {on && <Button onClick={() => set.mutate(typed)}>Listen there</Button>}
        </div>
      )}
      <Failure error={set.error} />
    </section>
  );
}
