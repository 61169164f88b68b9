import { Link } from "@tanstack/react-router";
import { lazy, Suspense } from "react";
import type { Destination } from "../api";
import { Meter } from "../parts/Meter";
import { bytes, things } from "../words";

const Offers = lazy(() => import("./Offers")); // seldom there, and not small

/** A destination and how full it is. */
export function DestinationRoom({ destination: d }: { destination: Destination }) {
  const { free, used } = d.space;
  const known = free >= 0 && used >= 0;
  const text = known
    ? `${bytes(used)} used, ${bytes(free)} free`
    : free >= 0
      ? `${bytes(free)} free`
      : "does not tell its room";
  return (
    <li className="py-1.5">
      <div className="mb-1 flex flex-wrap justify-between gap-x-3">
        <span className="font-semibold">{d.name}</span>
        <span className="text-sm text-quiet">{text}</span>
      </div>
      {known && (
        <Meter label={`Room at ${d.name}`} value={used} max={used + free} text={text} tone="bg-tide" />
      )}
      <p className="mt-1 truncate text-sm text-quiet" title={d.where}>
        <Link
          to="/queue"
          search={{ destination: d.name }}
          className="underline decoration-line underline-offset-4 hover:decoration-tide"
        >
          holds{" "}
          {things(
            d.held.n,
            d.there.map((s) => s.kind),
          )}
        </Link>
        , {bytes(d.held.bytes)}. {d.kind}, {d.where}
      </p>
      {d.short > 0 && (
        <Suspense fallback={null}>
          <Offers name={d.name} says={d.says} />
        </Suspense>
      )}
    </li>
  );
}
