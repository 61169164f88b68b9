import { useState } from "react";
import type { Device } from "../api";
import { Button } from "../parts/Button";
import { Bands, Table } from "./Bands";
import { bandsOf } from "./day";
import { useDay } from "./queries";

/** A device's day as bands: its network, its power, its rest, and what became safe; the same as a table. */
export function DayBand({ device: d }: { device: Device }) {
  const [back, setBack] = useState(0);
  const [table, setTable] = useState(false);
  const day = useDay(d.name, back === 0 ? "" : dayBefore(back));
  if (day.isError)
    return <p className="mt-3 text-sm text-quiet">Its day cannot be shown: {day.error.message}</p>;
  if (!day.data) return null;
  const bands = bandsOf(day.data);
  const title = new Intl.DateTimeFormat("en-GB", { weekday: "long", day: "numeric", month: "long" }).format(
    new Date(new Date(day.data.from).getTime() + 12 * 3600_000),
  );
  return (
    <figure className="mt-4">
      <figcaption className="mb-1 flex flex-wrap items-center justify-between gap-2 text-sm">
        <span className="font-semibold">{back === 0 ? `Today, ${title}` : title}</span>
        <span className="flex gap-2">
          <Button onClick={() => setBack(back + 1)} aria-label={`The day before, of ${d.name}`}>
            Before
          </Button>
          <Button
            onClick={() => setBack(back - 1)}
            disabled={back === 0}
            aria-label={`The day after, of ${d.name}`}
          >
            After
          </Button>
          <Button
            onClick={() => setTable(!table)}
            aria-expanded={table}
            aria-label={`The day of ${d.name} as a table`}
          >
            {table ? "As bands" : "As a table"}
          </Button>
        </span>
      </figcaption>
      {table ? <Table bands={bands} /> : <Bands bands={bands} device={d.name} />}
    </figure>
  );
}

function dayBefore(back: number): string {
  const at = new Date(Date.now() - back * 86400_000);
  return `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, "0")}-${String(at.getDate()).padStart(2, "0")}`;
}
