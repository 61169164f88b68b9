import { Check, Laptop, MonitorSmartphone, Smartphone } from "lucide-react";
import { useState } from "react";
import type { SetupNow } from "../api";
import { AddDevice } from "../devices/AddDevice";
import { HomeNetwork } from "../devices/HomeNetwork";
import { useHomeNetwork } from "../devices/queries";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { useYard } from "../yard";
import { useChange } from "./queries";

const answers = [
  { whose: "here", icon: Laptop, title: "Of this computer", says: "The folders on it, and on disks in it." },
  {
    whose: "elsewhere",
    icon: Smartphone,
    title: "Of a phone or another computer",
    says: "It joins with a code, and sends by itself from then on.",
  },
  { whose: "both", icon: MonitorSmartphone, title: "Of both", says: "This computer, and others that join." },
] as const;

/** Step 1: whose pictures; a device elsewhere joins right here. */
export function Whose({ now }: { now: SetupNow }) {
  const change = useChange();
  const others = now.devices.filter((d) => !d.here);
  const asksOthers = now.whose === "elsewhere" || now.whose === "both";
  return (
    <>
      <ul className="grid gap-3 sm:grid-cols-3">
        {answers.map(({ whose, icon: Icon, title, says }) => (
          <li key={whose}>
            <button
              type="button"
              aria-pressed={now.whose === whose}
              disabled={change.isPending || (now.device === "" && whose !== "elsewhere")}
              onClick={() => change.mutate({ whose, step: whose === "here" ? 2 : 1 })}
              className="flex h-full w-full flex-col rounded-lg border border-line p-4 text-left hover:border-tide disabled:opacity-60 aria-pressed:border-tide aria-pressed:bg-wash"
            >
              <Icon aria-hidden className="mb-2 size-6 text-tide" />
              <span className="block font-semibold">{title}</span>
              <span className="block text-sm text-quiet">{says}</span>
            </button>
          </li>
        ))}
      </ul>
      <Failure error={change.error} />
      {asksOthers && <Joining now={now} joined={others.map((d) => d.name)} />}
    </>
  );
}

/** Lets devices join, and tells which did; the first that joins leads on to the next step. */
function Joining({ now, joined }: { now: SetupNow; joined: string[] }) {
  const change = useChange();
  const home = useHomeNetwork().data;
  const known = useYard().data?.devices.filter((d) => d.link?.heard) ?? [];
  const [more, setMore] = useState(false);
  const [waits, setWaits] = useState(joined.length === 0); // for the first one
  if (waits && joined.length > 0) {
    setWaits(false);
    change.mutate({ step: 2 });
  }
  return (
    <div className="space-y-4" aria-live="polite">
      {joined.length > 0 && (
        <ul className="space-y-1">
          {joined.map((name) => (
            <li key={name} className="flex items-center gap-2">
              <Check aria-hidden className="size-4 text-safe" />
              <span className="font-semibold wrap-anywhere">{name}</span> joined
              {!now.devices.some((d) => d.name === name && d.connected) && (
                <span className="text-quiet">and is silent just now</span>
              )}
            </li>
          ))}
        </ul>
      )}
      {home && home.address === "" && <HomeNetwork />}
      {home && home.address !== "" && (joined.length === 0 || more) && (
        <AddDevice
          key={joined.length}
          name=""
          known={known.map((d) => d.name)}
          close={() => setMore(false)}
        />
      )}
      {joined.length > 0 && !more && <Button onClick={() => setMore(true)}>Another one joins</Button>}
    </div>
  );
}
