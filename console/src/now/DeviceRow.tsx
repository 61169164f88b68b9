import { Link } from "@tanstack/react-router";
import {
  BatteryCharging,
  BatteryMedium,
  CircleHelp,
  Plug,
  RadioTower,
  Unplug,
  Wifi,
  EthernetPort,
} from "lucide-react";
import type { Conditions, Device } from "../api";
import { network, power } from "../words";
import { PauseButton } from "./PauseButton";

/** One device in a line or two: what it senses, how much of it is safe, and its pause. */
export function DeviceRow({ device: d }: { device: Device }) {
  const all = Object.entries(d.states).reduce((sum, [state, a]) => sum + (state === "skipped" ? 0 : a.n), 0);
  const safe = d.states["safe"]?.n ?? 0;
  return (
    <li className="flex items-start justify-between gap-3 py-1.5">
      <div className="min-w-0">
        <h3 className="inline font-semibold">{d.name}</h3>{" "}
        <Link
          to="/queue"
          search={{ device: d.name }}
          className="text-sm text-quiet underline decoration-line underline-offset-4 hover:decoration-tide"
        >
          {all === 0
            ? "nothing found yet"
            : `${safe.toLocaleString("en-GB")} of ${all.toLocaleString("en-GB")} safe`}
        </Link>
        <ConditionsLine conditions={d.conditions} />
        {d.inSmall.n > 0 && (
          <p className="text-sm text-quiet">
            {d.inSmall.n.toLocaleString("en-GB")} safe in small, not yet whole
          </p>
        )}
        {d.beside.length > 0 && (
          <p className="text-sm text-quiet">Beside the copies: {d.beside.map((b) => b.says).join(" ")}</p>
        )}
        {d.doubles.map((one) => (
          <p key={one.destination} className="text-sm text-quiet">
            {one.says}
          </p>
        ))}
        {d.strays?.says && (
          <p className="text-sm text-quiet">
            {d.strays.says}{" "}
            <Link to="/devices" className="underline decoration-line underline-offset-4">
              See them
            </Link>
          </p>
        )}
        {d.awake.says && <p className="text-sm text-quiet">{d.awake.says}</p>}
        {d.problem && <p className="text-sm font-semibold text-stuck">{d.problem}</p>}
        {d.link && !d.link.connected && <p className="text-sm text-quiet">{d.link.says}</p>}
      </div>
      <PauseButton device={d} />
    </li>
  );
}

function NetworkSign({ network }: { network: string }) {
  switch (network) {
    case "none":
      return <Unplug aria-hidden className="size-4" />;
    case "wifi":
      return <Wifi aria-hidden className="size-4" />;
    case "wired":
      return <EthernetPort aria-hidden className="size-4" />;
    case "cellular":
      return <RadioTower aria-hidden className="size-4" />;
  }
  return <CircleHelp aria-hidden className="size-4" />;
}

function ConditionsLine({ conditions: c }: { conditions: Conditions }) {
  const Power = c.battery < 0 ? Plug : c.charging === "yes" ? BatteryCharging : BatteryMedium;
  return (
    <p className="flex flex-wrap gap-x-4 text-sm text-quiet">
      <span className="inline-flex items-center gap-1.5">
        <NetworkSign network={c.network} />
        {network(c)}
      </span>
      <span className="inline-flex items-center gap-1.5">
        <Power aria-hidden className="size-4" />
        {power(c)}
      </span>
    </p>
  );
}
