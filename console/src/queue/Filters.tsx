import { PickOne } from "../parts/PickOne";
import { useYard } from "../yard";
import { gates, kinds, states, type QueueSearch } from "./search";

/** The filters: device, state, kind, hold and place. */
export function Filters({ search, go }: { search: QueueSearch; go: (change: QueueSearch) => void }) {
  const yard = useYard();
  const devices = yard.data?.devices.map((d) => d.name) ?? [];
  return (
    <div className="flex flex-wrap gap-3">
      <PickOne
        label="Device"
        all="all devices"
        options={devices}
        value={search.device}
        pick={(device) => go({ device })}
      />
      <PickOne
        label="State"
        all="all states"
        options={states}
        called={called}
        value={search.state}
        pick={(state) => go({ state, hold: undefined })}
      />
      <PickOne
        label="Kind"
        all="all kinds"
        options={kinds}
        value={search.kind}
        pick={(kind) => go({ kind })}
      />
      <PickOne
        label="Held by"
        all="any gate or none"
        options={gates}
        value={search.hold}
        pick={(hold) => go({ hold, state: undefined })}
      />
      <PickOne
        label="Place"
        all="all places"
        options={yard.data?.destinations.map((d) => d.name) ?? []}
        value={search.destination}
        pick={(destination) => go({ destination })}
      />
    </div>
  );
}

/** What a state is called: one of the filters stands for several. */
const called = (option: string) => (option === "unsafe" ? "not safe yet" : option);
