import { useState } from "react";
import { Boundary } from "../parts/Boundary";
import { Button } from "../parts/Button";
import { Loading, Notice } from "../parts/Notice";
import { useYard } from "../yard";
import { AddDestination } from "./AddDestination";
import { Berth } from "./Berth";

/** Where copies go: how full each storage is, whether it works, and new ones. */
export function DestinationsPage() {
  const yard = useYard();
  const [adding, setAdding] = useState(false);
  if (yard.isPending) return <Loading what="the destinations" />;
  if (yard.isError) {
    return (
      <Notice title="The destinations cannot be shown" tone="alarm">
        <p>{yard.error.message}</p>
      </Notice>
    );
  }
  const { destinations } = yard.data;
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold">Destinations</h1>
        <Button strong onClick={() => setAdding(true)}>
          Add a destination
        </Button>
      </div>
      {destinations.length === 0 && (
        <Notice title="There is no destination yet">
          <p>The first step: say where your pictures go, and see that they fit there.</p>
        </Notice>
      )}
      <div className="grid items-start gap-6 lg:grid-cols-2">
        {destinations.map((d) => (
          <Boundary key={d.name} of={d.name}>
            <Berth destination={d} />
          </Boundary>
        ))}
      </div>
      {adding && <AddDestination close={() => setAdding(false)} />}
    </div>
  );
}
