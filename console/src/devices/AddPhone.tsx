import { useState } from "react";
import type { Door, PhoneKeys } from "../api";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { TextField } from "../parts/Field";
import { QR } from "../parts/QR";
import { at, words } from "../plan/keys";
import { usePlan } from "../plan/queries";
import { useAddPhone } from "./phones";

/** A phone that hands over by its browser or an app: who it is, and then its keys, once. */
export function AddPhone({ close }: { close: () => void }) {
  const [name, setName] = useState("");
  const [person, setPerson] = useState("");
  const add = useAddPhone();
  const plan = usePlan().data;
  const people = plan && at(plan.values, "people") ? words(plan.values, "people") : [];
  return (
    <section aria-labelledby="add-phone" className="rounded-lg border border-tide bg-plank p-5">
      <div className="flex items-start justify-between gap-3">
        <h2 id="add-phone" className="text-lg font-semibold">
          {add.data ? `${add.data.name} hands over from now on` : "A phone hands over"}
        </h2>
        <Button onClick={close}>{add.data ? "Done" : "Cancel"}</Button>
      </div>
      {!add.data && (
        <form
          className="mt-3 max-w-md space-y-3"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate({ name: name.trim(), ...(person !== "" && { person }) });
          }}
        >
          <p>
            Nothing is installed on it: its browser opens a page, or an app that it has already uploads by
            itself. What it hands over lies here until it is safe.
          </p>
          <TextField label="What the phone is called" hint="toms-phone" value={name} change={setName} />
          {people.length > 0 && (
            <Choice
              label="Whose it is"
              value={person}
              options={[
                { value: "", label: "nobody's in particular" },
                ...people.map((p) => ({ value: p, label: p })),
              ]}
              change={setPerson}
            />
          )}
          <Button strong type="submit" disabled={name.trim() === "" || add.isPending}>
            Add it
          </Button>
        </form>
      )}
      <Failure error={add.error} />
      {add.data && <Keys keys={add.data} />}
    </section>
  );
}

/** The keys of a phone. They are told once. */
export function Keys({ keys }: { keys: PhoneKeys }) {
  return (
    <div className="mt-3 space-y-4">
      <p className="rounded-md bg-lamp p-3">
        These keys are told once. Lost ones are replaced by new ones, which end these.
      </p>
      {keys.notes.map((n) => (
        <p key={n} className="wrap-anywhere text-quiet">
          {n}
        </p>
      ))}
      {keys.page.address !== "" && (
        <div className="flex flex-wrap items-start gap-6">
          <QR rows={keys.page.qr} of={`the page of ${keys.name}`} />
          <div className="max-w-md min-w-0 space-y-2">
            <h3 className="font-semibold">By its browser</h3>
            <p>{keys.page.says}</p>
            <p className="rounded-md bg-wash p-3 wrap-anywhere">
              <code>{keys.page.address}</code>
            </p>
          </div>
        </div>
      )}
      {keys.webdav.address !== "" && <AppDoor title="By an app: WebDAV" door={keys.webdav} of={keys.name} />}
      {keys.sftp.address ? (
        <AppDoor title="By an app: SFTP" door={keys.sftp} of={keys.name} />
      ) : (
        <p className="text-sm text-quiet">
          For apps that speak SFTP, switch that on below, at Phones that hand over.
        </p>
      )}
    </div>
  );
}

function AppDoor({ title, door: d, of }: { title: string; door: Door; of: string }) {
  const rows: [string, string][] = [
    ["Address", d.host ? "" : d.address],
    ["Host", d.host ?? ""],
    ["Port", d.port ? String(d.port) : ""],
    ["User", d.user ?? ""],
    ["Password", d.password ?? ""],
    ["Key of the service", d.key ?? ""],
  ];
  return (
    <div className="flex flex-wrap items-start gap-6">
      {d.qr.length > 0 && <QR rows={d.qr} of={`${title} of ${of}`} />}
      <div className="max-w-md min-w-0 space-y-2">
        <h3 className="font-semibold">{title}</h3>
        <p>{d.says}</p>
        <dl className="rounded-md bg-wash p-3">
          {rows
            .filter(([, is]) => is !== "")
            .map(([label, is]) => (
              <div key={label} className="flex flex-wrap gap-x-3">
                <dt className="w-32 shrink-0 text-quiet">{label}</dt>
                <dd className="min-w-0 wrap-anywhere">
                  <code>{is}</code>
                </dd>
              </div>
            ))}
        </dl>
      </div>
    </div>
  );
}
