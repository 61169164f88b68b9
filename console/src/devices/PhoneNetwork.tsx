import { useState } from "react";
import type { PhoneNetwork as Network } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { TextField } from "../parts/Field";
import { usePhoneNetwork, useSetPhoneNetwork } from "./phones";
import { useHomeNetwork } from "./queries";

/** Where phones that hand over come, beside the home network's own address. */
export function PhoneNetwork() {
  const network = usePhoneNetwork().data;
  const home = useHomeNetwork().data;
  const set = useSetPhoneNetwork();
  if (!network || !home) return null;
  const host = (home.address || home.proposed).replace(/:\d+$/, "");
  const put = (change: Partial<Network>) => set.mutate({ ...network, ...change });
  return (
    <section aria-labelledby="phone-network" className="rounded-lg border border-line bg-plank p-5">
      <h2 id="phone-network" className="font-semibold">
        Phones that hand over
      </h2>
      <p className="mt-2 text-sm text-quiet">
        Their browsers and apps come to the home network&rsquo;s address, encrypted. Where an app takes no
        certificate of a household&rsquo;s own, or speaks SFTP, they may come here as well.
      </p>
      <Way
        label="Apps that speak SFTP"
        is={network.sftp}
        at={network.sftpAt}
        problem={network.sftpProblem}
        proposed={`${host}:7422`}
        put={(sftp) => put({ sftp })}
      />
      <Way
        label="Without encryption"
        is={network.plain}
        at={network.plainAt}
        problem={network.plainProblem}
        proposed={`${host}:7480`}
        put={(plain) => put({ plain })}
        warns="Whoever is on the home network could read along, keys included."
      />
      <Failure error={set.error} />
    </section>
  );
}

function Way(props: {
  label: string;
  is: string;
  at?: string;
  problem?: string;
  proposed: string;
  put: (address: string) => void;
  warns?: string;
}) {
  const [typed, setTyped] = useState<string>();
  const on = props.is !== "";
  return (
    <div className="mt-3 border-t border-line pt-3">
      <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <span className="font-semibold">{props.label}</span>
        <span className="text-quiet">{on ? `at ${props.at ?? props.is}` : "off"}</span>
        {on ? (
          <Button onClick={() => props.put("")} aria-label={`Switch off: ${props.label}`}>
            Switch off
          </Button>
        ) : (
          typed === undefined && (
            <Button onClick={() => setTyped(props.proposed)} aria-label={`Switch on: ${props.label}`}>
              Switch on
            </Button>
          )
        )}
      </p>
      {props.problem && <p className="mt-2 rounded-md bg-alarm p-3">{props.problem}</p>}
      {!on && typed !== undefined && (
        <form
          className="mt-2 flex max-w-md flex-wrap items-end gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            props.put(typed);
            setTyped(undefined);
          }}
        >
          {props.warns && <p className="rounded-md bg-lamp p-3">{props.warns}</p>}
          <TextField
            label={`Address: ${props.label}`}
            hint="192.168.1.20:7480"
            value={typed}
            change={setTyped}
          />
          <Button strong type="submit">
            Listen there
          </Button>
        </form>
      )}
    </div>
  );
}
