import { useState } from "react";
import type { SetupNow } from "../api";
import { AddDestination } from "../destinations/AddDestination";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { word } from "../plan/keys";
import { bytes } from "../words";
import { useAddPlace, useRemovePlace } from "./queries";

/** Step 2: places that were tried, and more of them. */
export function Where({ now }: { now: SetupNow }) {
  const [adding, setAdding] = useState(false);
  const add = useAddPlace();
  const remove = useRemovePlace();
  const where = (name: string) =>
    ["path", "url", "address"].map((k) => word(now.values, "destinations", name, k)).find((v) => v !== "");
  return (
    <>
      <p className="text-quiet">
        A disk, a box on your network, a web storage or a bucket. It is tested first, and nothing of the test
        is left there.
      </p>
      {now.places.length > 0 && (
        <ul className="divide-y divide-line">
          {now.places.map((p) => (
            <li key={p.name} className="flex flex-wrap items-center justify-between gap-3 py-2">
              <span className="min-w-0 wrap-anywhere">
                <span className="font-semibold">{p.name}</span>{" "}
                <span className="text-quiet">
                  {where(p.name)}, {p.free >= 0 ? `${bytes(p.free)} free` : "does not tell its room"}
                </span>
              </span>
              <Button
                onClick={() => remove.mutate(p.name)}
                disabled={remove.isPending}
                aria-label={`Take out ${p.name}`}
              >
                Take out
              </Button>
            </li>
          ))}
        </ul>
      )}
      {now.places.length === 1 && (
        <p className="rounded-md bg-lamp p-3">
          Two places are better than one: a disk fails, a house floods, a bill is not paid. A picture counts
          as safe when every place has it.
        </p>
      )}
      <Failure error={remove.error} />
      <Button strong={now.places.length === 0} onClick={() => setAdding(true)}>
        {now.places.length === 0 ? "Add a place" : "Add another place"}
      </Button>
      {adding && (
        <AddDestination
          close={() => setAdding(false)}
          into={{
            says: "Use this place",
            put: (draft, job) => add.mutateAsync({ ...draft, job }),
          }}
        />
      )}
    </>
  );
}
