import { Field, Label, Switch } from "@headlessui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type Conditions, type Phone } from "../api";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";

const networks: { label: string; is: Pick<Conditions, "network" | "networkName" | "metered" | "roaming"> }[] =
  [
    { label: "Wi-Fi", is: { network: "wifi", networkName: "Saltmarsh Slip", metered: "no", roaming: "no" } },
    {
      label: "Other Wi-Fi",
      is: { network: "wifi", networkName: "Ferry Landing", metered: "no", roaming: "no" },
    },
    { label: "Metered Wi-Fi", is: { network: "wifi", networkName: "Train", metered: "yes", roaming: "no" } },
    { label: "Cellular", is: { network: "cellular", networkName: "", metered: "yes", roaming: "no" } },
    { label: "Roaming", is: { network: "cellular", networkName: "", metered: "yes", roaming: "yes" } },
    { label: "None", is: { network: "none", networkName: "", metered: "no", roaming: "no" } },
    { label: "Unknown", is: { network: "unknown", networkName: "", metered: "unknown", roaming: "unknown" } },
  ];

/** The panel of the demo: what the simulated devices sense. Nothing here exists outside the demo. */
export default function StandinPhones() {
  const phones = useQuery({
    queryKey: ["phones"],
    queryFn: () => body(api.GET("/api/v1/standin/phones")),
  });
  const [chosen, setChosen] = useState("");
  const all = phones.data ?? [];
  const phone = all.find((p) => p.device === chosen) ?? all[0];
  return (
    <section aria-labelledby="standin" className="rounded-lg border-2 border-dashed border-rest p-5">
      <h2 id="standin" className="text-lg font-semibold">
        Stand-in: simulated devices
      </h2>
      <p className="mb-4 text-sm text-quiet">
        Part of the demo only. Set what each device senses, or let it follow its day, and watch its gates.
      </p>
      <Failure error={phones.error} />
      <div className="space-y-4">
        {all.length > 1 && (
          <>
            <StandinClock />
            <Choice
              label="Which device"
              value={phone?.device ?? ""}
              options={all.map((p) => ({ value: p.device, label: p.device }))}
              change={setChosen}
            />
          </>
        )}
        {phone && <PhonePanel key={phone.device} phone={phone} />}
      </div>
    </section>
  );
}

/** The clock by which the simulated devices live; the real one goes on beside it. */
function StandinClock() {
  const client = useQueryClient();
  const clock = useQuery({
    queryKey: ["standin-clock"],
    queryFn: () => body(api.GET("/api/v1/standin/clock")),
    refetchInterval: 1000,
  });
  const set = useMutation({
    mutationFn: (is: { minute: number; speed: number }) =>
      body(api.PUT("/api/v1/standin/clock", { body: is })),
    onSuccess: (is) => client.setQueryData(["standin-clock"], is),
  });
  if (!clock.data) return null;
  const { minute, speed } = clock.data;
  const says = `${String(Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`;
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
      <label className="flex items-center gap-2">
        Their clock
        <input
          type="range"
          min={0}
          max={1439}
          value={minute}
          aria-valuetext={says}
          onChange={(e) => set.mutate({ minute: e.target.valueAsNumber, speed })}
          className="accent-tide"
        />
        <span className="w-12 font-semibold">{says}</span>
      </label>
      <Choice
        label="How fast their clock goes"
        value={String(speed)}
        options={[
          { value: "0", label: "Stands" },
          { value: "1", label: "As the real one" },
          { value: "720", label: "A day in two minutes" },
        ]}
        change={(v) => set.mutate({ minute, speed: Number(v) })}
      />
      <Button onClick={() => set.mutate({ minute: (minute + 60) % 1440, speed })}>An hour on</Button>
      <Failure error={clock.error ?? set.error} />
    </div>
  );
}

function PhonePanel({ phone }: { phone: Phone }) {
  const client = useQueryClient();
  const put = (phones: Phone[]) => client.setQueryData(["phones"], phones);
  const params = { path: { device: phone.device } };
  const set = useMutation({
    mutationFn: (change: Partial<Conditions>) =>
      body(api.PUT("/api/v1/standin/phones/{device}", { params, body: { ...phone.conditions, ...change } })),
    onSuccess: put,
  });
  const follow = useMutation({
    mutationFn: () => body(api.POST("/api/v1/standin/phones/{device}/day", { params })),
    onSuccess: put,
  });
  const picture = useMutation({
    mutationFn: () => body(api.POST("/api/v1/standin/phones/{device}/pictures", { params })),
    onSuccess: put,
  });
  const card = useMutation({
    mutationFn: (is: boolean) =>
      body(api.PUT("/api/v1/standin/phones/{device}/card", { params, body: { in: is } })),
    onSuccess: put,
  });
  const c = phone.conditions;
  const alike = networks.filter(
    ({ is }) => is.network === c.network && is.metered === c.metered && is.roaming === c.roaming,
  );
  const current = alike.find(({ is }) => is.networkName === c.networkName) ?? alike[alike.length - 1];
  return (
    <div className="space-y-4">
      <Choice
        label={`Network of ${phone.device}`}
        value={current?.label ?? ""}
        options={networks.map((n) => ({ value: n.label, label: n.label }))}
        change={(label) => set.mutate(networks.find((n) => n.label === label)?.is ?? {})}
      />
      <div className="flex flex-wrap items-center gap-x-6 gap-y-3">
        <Field className="flex items-center gap-2">
          <Switch
            checked={c.charging === "yes"}
            onChange={(on) => set.mutate({ charging: on ? "yes" : "no" })}
            className="group inline-flex h-6 w-11 items-center rounded-full bg-rest data-checked:bg-tide"
          >
            <span
              aria-hidden
              className="size-4 translate-x-1 rounded-full bg-plank transition group-data-checked:translate-x-6"
            />
          </Switch>
          <Label>Charger</Label>
        </Field>
        <label className="flex items-center gap-2">
          Battery
          <input
            type="range"
            min={1}
            max={100}
            value={c.battery}
            onChange={(e) => set.mutate({ battery: e.target.valueAsNumber })}
            className="accent-tide"
          />
          <span className="w-12">{c.battery}%</span>
        </label>
      </div>
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => picture.mutate()} disabled={picture.isPending}>
          Take a picture
        </Button>
        <Button onClick={() => follow.mutate()} disabled={phone.day || follow.isPending}>
          {phone.day ? "Follows its day" : "Follow its day"}
        </Button>
        {phone.card && (
          <Button onClick={() => card.mutate(phone.card !== "in")} disabled={card.isPending}>
            {phone.card === "in" ? "Pull its card out" : "Put a camera's card in"}
          </Button>
        )}
      </div>
      <Failure error={set.error ?? picture.error ?? follow.error ?? card.error} />
    </div>
  );
}
