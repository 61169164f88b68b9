import { Link } from "@tanstack/react-router";
import { BatteryCharging, BatteryMedium, Plug, RadioTower, Unplug, Wifi, EthernetPort } from "lucide-react";
import type { Conditions, Device } from "../api";
import { Button } from "../parts/Button";
import { useRetry } from "../parts/actions";
import { network, power } from "../words";
import { Holds } from "./Holds";
import { Lanes } from "./Lanes";
import { PauseButton } from "./PauseButton";
import { Sends } from "./Sends";
import { TideBar } from "./TideBar";

/** One device: its conditions, what is safe, what moves, what is held, which gates are open. */
export function DeviceBerth({ device: d }: { device: Device }) {
  const retry = useRetry();
  const stuck = d.states["stuck"]?.n ?? 0;
  const problems = d.sources.flatMap((s) => s.problems);
  return (
    <section aria-labelledby={`device-${d.name}`} className="rounded-lg border border-line bg-plank p-5">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div>
          <h2 id={`device-${d.name}`} className="text-xl font-semibold">
            {d.name}
          </h2>
          <ConditionsLine conditions={d.conditions} />
        </div>
        <PauseButton device={d} />
      </div>
      {d.problem && (
        <p role="alert" className="mt-3 rounded-md bg-alarm p-3">
          {d.problem}
        </p>
      )}
      <TideBar states={d.states} device={d.name} />
      {stuck > 0 && (
        <div className="mt-4 flex flex-wrap items-center justify-between gap-2 rounded-md bg-alarm p-3">
          <Link to="/queue" search={{ device: d.name, state: "stuck" }} className="font-semibold underline">
            {stuck} stuck: see what to do
          </Link>
          <Button onClick={() => retry.mutate({ device: d.name })} disabled={retry.isPending}>
            Retry all
          </Button>
        </div>
      )}
      {problems.length > 0 && (
        <ul className="mt-4 space-y-2">
          {problems.map((p) => (
            <li key={p.path + p.says} className="rounded-md bg-lamp p-3">
              <span className="font-semibold break-all">{p.path}</span>: {p.says} {p.todo}
            </li>
          ))}
        </ul>
      )}
      <Sends sends={d.sends} next={d.going} />
      <Holds holds={d.holds} device={d.name} />
      <Lanes lanes={d.lanes} />
    </section>
  );
}

function ConditionsLine({ conditions: c }: { conditions: Conditions }) {
  const Net = { none: Unplug, wifi: Wifi, wired: EthernetPort, cellular: RadioTower }[c.network];
  const Power = c.battery < 0 ? Plug : c.charging ? BatteryCharging : BatteryMedium;
  return (
    <p className="mt-1 flex flex-wrap gap-x-4 text-quiet">
      <span className="inline-flex items-center gap-1.5">
        <Net aria-hidden className="size-4" />
        {network(c)}
      </span>
      <span className="inline-flex items-center gap-1.5">
        <Power aria-hidden className="size-4" />
        {power(c)}
      </span>
    </p>
  );
}
