import { Link } from "@tanstack/react-router";
import { useYard } from "../yard";
import { Loading, Notice } from "../parts/Notice";
import { DeviceBerth } from "./DeviceBerth";
import { DestinationRoom } from "./DestinationRoom";
import { Headline } from "./Headline";
import { StandinPhones } from "./StandinPhones";

/** The glance: is everything safe; if not, what waits, why, until when. */
export function NowPage() {
  const yard = useYard();
  if (yard.isPending) return <Loading what="the yard" />;
  if (yard.isError) {
    return (
      <Notice title="The yard cannot be shown" tone="alarm">
        <p>{yard.error.message}</p>
      </Notice>
    );
  }
  const y = yard.data;
  return (
    <div className="space-y-6">
      <Headline yard={y} />
      {y.problem && (
        <Notice title="Something must be done first" tone="alarm">
          <p>{y.problem}</p>
          {!y.yard && (
            <p>
              <Link to="/destinations" className="font-semibold text-ink underline">
                Say where your pictures go
              </Link>
              : with the first destination comes a first plan.
            </p>
          )}
        </Notice>
      )}
      <div className="grid gap-6 lg:grid-cols-2">
        {y.devices.map((d) => (
          <DeviceBerth key={d.name} device={d} />
        ))}
      </div>
      <div className="grid gap-6 lg:grid-cols-2">
        {y.destinations.length > 0 && (
          <section aria-labelledby="destinations" className="rounded-lg border border-line bg-plank p-5">
            <h2 id="destinations" className="mb-3 text-lg font-semibold">
              Destinations
            </h2>
            <ul className="space-y-4">
              {y.destinations.map((d) => (
                <DestinationRoom key={d.name} destination={d} />
              ))}
            </ul>
          </section>
        )}
        {y.standin && <StandinPhones />}
      </div>
      {y.absent.length > 0 && (
        <p className="text-quiet">In the plan, but run by no process here: {y.absent.join(", ")}.</p>
      )}
    </div>
  );
}
