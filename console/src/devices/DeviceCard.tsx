import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Conditions, Device, InboxPhone } from "../api";
import { PauseButton } from "../now/PauseButton";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { TextField } from "../parts/Field";
import { bytes, called, network, power, things, when } from "../words";
import { DayBand } from "./DayBand";
import { HandsOver } from "./HandsOver";
import { useFinish, useRename, useRevoke } from "./queries";
import { Strays } from "./Strays";

/** One device: whose it is, where it runs, what it senses since when, what it holds, and its day. */
export function DeviceCard(props: { device: Device; left: (says: string) => void; phone?: InboxPhone }) {
  const { device: d, left, phone } = props;
  const [leaving, setLeaving] = useState(false);
  const revoke = useRevoke(d.name, left);
  const holds = Object.entries(d.states)
    .filter(([, a]) => a.n > 0)
    .map(([state, a]) => `${things(a.n, d.kinds)} ${state} (${bytes(a.bytes)})`);
  return (
    <section aria-labelledby={`device-${d.name}`} className="rounded-lg border border-line bg-plank p-5">
      <div className="flex items-start justify-between gap-3">
        <div className="min-w-0">
          <h2 id={`device-${d.name}`} className="text-lg font-semibold">
            {d.name}
            {d.person && <span className="font-normal text-quiet">, {d.person}&rsquo;s</span>}
          </h2>
          <p className={`text-sm ${d.link?.silent ? "font-semibold text-stuck" : "text-quiet"}`}>
            {d.link
              ? d.link.says
              : phone
                ? "Hands over by its browser or an app; its inbox is on this computer."
                : "Runs with the service, on this computer."}
          </p>
        </div>
        <PauseButton device={d} />
      </div>
      {d.problem && <p className="mt-3 rounded-md bg-alarm p-3">{d.problem}</p>}
      {phone ? <HandsOver phone={phone} /> : <Sensed device={d} />}
      <p className="mt-3">
        {holds.length === 0 ? "Nothing found yet." : `${holds.join(", ")}.`}{" "}
        <Link
          to="/queue"
          search={{ device: d.name }}
          className="underline decoration-line underline-offset-4"
        >
          See them
        </Link>
      </p>
      <Rest device={d} />
      <DayBand device={d} />
      {!phone && <Strays device={d} />}
      {d.link && (
        <>
          <ul className="mt-3 space-y-1 text-sm text-quiet">
            {d.link.reached.map((r) => (
              <li key={r.destination}>
                {r.says
                  ? `${r.destination} does not answer there: ${r.says}`
                  : r.at
                    ? `Reached ${r.destination} at ${when(r.at)}.`
                    : `${r.destination} was not reached from there yet.`}
              </li>
            ))}
            <li>
              {d.link.follows ? "Follows the plan in force." : "Does not follow the plan in force yet."}
              {d.link.version && ` Program ${d.link.version}.`}
            </li>
            {d.stops.n > 0 && d.stops.last && (
              <li>
                Stopped from outside {d.stops.n === 1 ? "once" : `${d.stops.n} times`} in seven days, last at{" "}
                {when(d.stops.last)}.
              </li>
            )}
          </ul>
          <div className="mt-4 flex flex-wrap items-start gap-2">
            <Rename device={d.name} />
            {leaving ? (
              <p className="flex flex-wrap items-center gap-2">
                It is then answered no more, and must join anew.
                <Button
                  onClick={() => revoke.mutate()}
                  disabled={revoke.isPending}
                  aria-label={`Revoke ${d.name} now`}
                >
                  Revoke it
                </Button>
                <Button onClick={() => setLeaving(false)}>Keep it</Button>
              </p>
            ) : (
              <Button onClick={() => setLeaving(true)} aria-label={`Revoke ${d.name}`}>
                Revoke
              </Button>
            )}
            <Failure error={revoke.error} />
          </div>
        </>
      )}
    </section>
  );
}

/** A form for another name. */
function Rename({ device }: { device: string }) {
  const [to, setTo] = useState<string>();
  const rename = useRename(device);
  if (to === undefined) {
    return (
      <Button onClick={() => setTo(device)} aria-label={`Rename ${device}`}>
        Rename
      </Button>
    );
  }
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        rename.mutate(to);
      }}
    >
      <div className="flex flex-wrap items-end gap-2">
        <TextField label={`New name of ${device}`} value={to} change={setTo} />
        <Button strong type="submit" disabled={rename.isPending || to === device || to === ""}>
          Call it so
        </Button>
        <Button onClick={() => setTo(undefined)}>Leave it</Button>
      </div>
      <p className="mt-1 text-sm text-quiet">
        What it sent keeps its names; folders named by the device are new from then on.
      </p>
      <Failure error={rename.error} />
    </form>
  );
}

/** Whether it is kept from sleeping, and what it does when nothing more can go. */
function Rest({ device: d }: { device: Device }) {
  const finish = useFinish(d.name);
  if (!d.awake.able && !d.awake.says) return null;
  return (
    <div className="mt-3">
      {d.awake.says && <p className="mb-2 rounded-md bg-wash px-3 py-2">{d.awake.says}</p>}
      <div className="flex flex-wrap gap-2">
        {!d.awake.able ? null : d.awake.then ? (
          <Button onClick={() => finish.mutate("")} aria-label={`Take that back, of ${d.name}`}>
            Take that back
          </Button>
        ) : (
          <>
            <Button onClick={() => finish.mutate("sleep")} aria-label={`Let ${d.name} sleep when done`}>
              Sleep when done
            </Button>
            <Button onClick={() => finish.mutate("off")} aria-label={`Switch ${d.name} off when done`}>
              Off when done
            </Button>
          </>
        )}
      </div>
      <Failure error={finish.error} />
    </div>
  );
}

/** What a device senses, and since when. */
function Sensed({ device: d }: { device: Device }) {
  const c = d.conditions;
  const rows: [string, string, string | undefined, string | undefined][] = [
    ["Network", network(c), c.networkSince, c.networkFrom],
    ["Power", power(c), c.powerSince, c.powerFrom],
    ["Use", use(c), c.useSince, c.useFrom],
  ];
  if (c.screen === "yes" || c.screen === "no") {
    rows.push(["Screen", c.screen === "yes" ? "on" : "dark", c.screenSince, undefined]);
  }
  if (c.saver === "yes") rows.push(["Battery", "its system saves battery", c.saverSince, undefined]);
  if (d.modem === "no") rows.push(["Modem", "none", undefined, undefined]);
  return (
    <dl className="mt-3 grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
      {rows.map(([what, says, since, from]) => (
        <div key={what} className="contents">
          <dt className="text-quiet">{what}</dt>
          <dd>
            {says}
            {since && <span className="text-quiet"> since {when(since)}</span>}
            {from && <span className="text-quiet">, told by {from}</span>}
          </dd>
        </div>
      ))}
    </dl>
  );
}

function use(c: Conditions): string {
  return called(c.use, { unknown: "not known", "in use": "in use", idle: "nobody uses it" });
}
