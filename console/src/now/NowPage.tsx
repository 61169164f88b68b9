import { Navigate, useLocation } from "@tanstack/react-router";
import { lazy, Suspense } from "react";
import { Boundary } from "../parts/Boundary";
import { Loading, Notice } from "../parts/Notice";
import { useYard } from "../yard";
import { DestinationRoom } from "./DestinationRoom";
import { DeviceRow } from "./DeviceRow";
import { Headline } from "./Headline";
import { Holds } from "./Holds";
import { Lanes } from "./Lanes";
import { Needs } from "./Needs";
import { Sends } from "./Sends";

// Seldom there, and not small: they come when they are needed.
const Cards = lazy(() => import("./Cards"));
const NewFolders = lazy(() => import("./NewFolders"));
const StandinPhones = lazy(() => import("./StandinPhones")); // only the demo has it

const panel = "rounded-lg border border-line bg-plank px-4 py-3";

/** The glance: is everything safe; what needs the keeper; what is on its way; what waits, why, until when. */
export function NowPage() {
  const yard = useYard();
  const here = useLocation({ select: (l) => l.pathname === "/" }); // not while another page is fetched
  if (yard.isPending) return <Loading what="the yard" />;
  if (yard.isError) {
    return (
      <Notice title="The yard cannot be shown" tone="alarm">
        <p>{yard.error.message}</p>
      </Notice>
    );
  }
  const y = yard.data;
  if (!y.yard) return here ? <Navigate to="/setup" replace /> : null;
  return (
    <div className="space-y-3">
      <Boundary of="The headline">
        <Headline yard={y} />
      </Boundary>
      <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-3 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <div className="space-y-3">
          <Boundary of="What needs you">
            <Needs needs={y.needs} className={panel} />
          </Boundary>
          <Boundary of="Cards and cameras">
            {y.devices.some((d) => d.cards.some((c) => c.here)) && (
              <Suspense fallback={null}>
                <Cards devices={y.devices} className={panel} />
              </Suspense>
            )}
          </Boundary>
          <Boundary of="New folders">
            {y.devices.some((d) => (d.strays?.new?.length ?? 0) > 0) && (
              <Suspense fallback={null}>
                <NewFolders devices={y.devices} className={panel} />
              </Suspense>
            )}
          </Boundary>
          <Boundary of="What is on the way">
            <Sends devices={y.devices} className={panel} />
          </Boundary>
          <Boundary of="What waits">
            <Holds holds={y.holds} className={panel} />
          </Boundary>
          <Boundary of="What the lanes allow">
            <Lanes devices={y.devices} className={panel} />
          </Boundary>
        </div>
        <div className="space-y-3">
          {y.devices.length > 0 && (
            <section aria-labelledby="devices" className={panel}>
              <h2 id="devices" className="mb-1 font-semibold">
                Devices
              </h2>
              <ul className="divide-y divide-line">
                {y.devices.map((d) => (
                  <Boundary key={d.name} of={d.name}>
                    <DeviceRow device={d} />
                  </Boundary>
                ))}
                {y.absent.map((name) => (
                  <li key={name} className="py-2">
                    <span className="font-semibold">{name}</span>{" "}
                    <span className="text-quiet">in the plan, and nothing runs it</span>
                  </li>
                ))}
              </ul>
            </section>
          )}
          {y.destinations.length > 0 && (
            <section aria-labelledby="storage" className={panel}>
              <h2 id="storage" className="mb-1 font-semibold">
                Storage
              </h2>
              <ul className="divide-y divide-line">
                {y.destinations.map((d) => (
                  <Boundary key={d.name} of={d.name}>
                    <DestinationRoom destination={d} />
                  </Boundary>
                ))}
              </ul>
            </section>
          )}
        </div>
      </div>
      {y.standin && (
        <Suspense fallback={null}>
          <StandinPhones />
        </Suspense>
      )}
    </div>
  );
}
