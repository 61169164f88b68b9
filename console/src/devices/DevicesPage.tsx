import { useState } from "react";
import { Boundary } from "../parts/Boundary";
import { Button } from "../parts/Button";
import { Loading, Notice } from "../parts/Notice";
import { useYard } from "../yard";
import { Choice } from "../parts/Choice";
import { AddDevice } from "./AddDevice";
import { AddPhone } from "./AddPhone";
import { DeviceCard } from "./DeviceCard";
import { HomeNetwork } from "./HomeNetwork";
import { PhoneNetwork } from "./PhoneNetwork";
import { usePhones } from "./phones";

/** Every device of the yard: who, what it senses, what it holds, its day, and new ones. */
export function DevicesPage() {
  const yard = useYard();
  const [adding, setAdding] = useState("");
  const [how, setHow] = useState<"runs" | "hands">("runs");
  const [revoked, setRevoked] = useState("");
  const phones = usePhones().data ?? [];
  if (yard.isPending) return <Loading what="the devices" />;
  if (yard.isError) {
    return (
      <Notice title="The devices cannot be shown" tone="alarm">
        <p>{yard.error.message}</p>
      </Notice>
    );
  }
  const { devices, absent, home } = yard.data;
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold">Devices</h1>
        {!home && (
          <Button strong onClick={() => setAdding("?")}>
            Add a device
          </Button>
        )}
      </div>
      {revoked && (
        <p role="status" className="rounded-md bg-lamp p-3">
          {revoked}
        </p>
      )}
      {adding === "?" && (
        <Choice
          label="Which device"
          value={how}
          options={[
            { value: "runs", label: "A computer or phone that runs Yard Tide" },
            { value: "hands", label: "A phone, by its browser or an app" },
          ]}
          change={setHow}
        />
      )}
      {adding === "?" && how === "hands" && <AddPhone close={() => setAdding("")} />}
      {adding && (adding !== "?" || how === "runs") && (
        <AddDevice
          known={devices.filter((d) => d.link?.heard).map((d) => d.name)}
          name={adding === "?" ? "" : adding}
          close={() => setAdding("")}
        />
      )}
      {home ? <p className="rounded-md bg-wash p-3">{home.says}</p> : <HomeNetwork />}
      <div className="grid items-start gap-6 lg:grid-cols-2">
        {devices.map((d) => (
          <Boundary key={d.name} of={d.name}>
            <DeviceCard device={d} left={setRevoked} phone={phones.find((p) => p.name === d.name)} />
          </Boundary>
        ))}
        {absent.map((name) => (
          <section
            key={name}
            aria-labelledby={`device-${name}`}
            className="rounded-lg border border-dashed border-rest p-5"
          >
            <h2 id={`device-${name}`} className="text-lg font-semibold">
              {name}
            </h2>
            <p className="mb-3 text-quiet">In the plan, and nothing runs it yet.</p>
            {!home && (
              <Button onClick={() => setAdding(name)} aria-label={`Let ${name} join`}>
                Let it join
              </Button>
            )}
          </section>
        ))}
      </div>
      {!home && <PhoneNetwork />}
    </div>
  );
}
