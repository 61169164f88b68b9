import { useState } from "react";
import type { RoomOnDevice } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { JobNote } from "../parts/JobNote";
import { Meter } from "../parts/Meter";
import { Loading, Notice } from "../parts/Notice";
import { bytes, things, when } from "../words";
import { useYard } from "../yard";
import { MakeRoom } from "./MakeRoom";
import { Went } from "./Went";
import { useRoom, useTakeBack } from "./queries";

/** How full each device is, what could go from it, and what went. */
export function RoomPage() {
  const room = useRoom();
  const jobs = useYard().data?.jobs.filter((j) => j.kind === "room") ?? [];
  const job = jobs.find((j) => j.state === "running") ?? jobs[0];
  return (
    <div className="flex flex-col gap-4">
      <h1 className="text-2xl font-semibold">Room</h1>
      <p className="max-w-prose text-quiet">
        What is proven elsewhere may go from a device. It is proven again at that moment, lies in the holding
        place for some days, from where it can be taken back at once, is proven once more, and only then
        removed.
      </p>
      {job && <JobNote job={job} />}
      {room.isPending ? (
        <Loading what="the room on each device" />
      ) : room.isError && !room.data ? (
        <Notice title="The room on devices cannot be shown" tone="alarm">
          <p>{room.error.message}</p>
        </Notice>
      ) : (
        <ul className="grid items-start gap-4 lg:grid-cols-2">
          {room.data?.devices.map((d) => (
            <OnDevice key={d.device} of={d} />
          ))}
        </ul>
      )}
    </div>
  );
}

function OnDevice({ of: d }: { of: RoomOnDevice }) {
  const [making, setMaking] = useState(false);
  const [shown, setShown] = useState<"held" | "all">();
  const back = useTakeBack(d.device);
  const went = d.held.n + d.removed.n > 0;
  const toggle = (what: "held" | "all") => setShown(shown === what ? undefined : what);
  return (
    <li className="flex flex-col gap-3 rounded-lg border border-line bg-plank p-5">
      <h2 className="text-lg font-semibold">{d.device}</h2>
      {d.disks.map((disk) => (
        <div key={disk.sources.join()} className="space-y-1">
          <p>
            {disk.free < 0 ? "How much is free is not known" : `${bytes(disk.free)} free`}
            {disk.total > 0 && ` of ${bytes(disk.total)}`}
            <span className="text-sm text-quiet"> for {disk.sources.join(", ")}</span>
          </p>
          {disk.total > 0 && (
            <Meter
              label={`The disk of ${disk.sources.join(", ")} on ${d.device}`}
              value={disk.total - disk.free}
              max={disk.total}
              text={`${bytes(disk.free)} free of ${bytes(disk.total)}`}
            />
          )}
        </div>
      ))}
      {d.by ? <p className="text-sm text-quiet">{d.by}</p> : <p>{d.standing}</p>}
      {d.held.n > 0 && (
        <div className="space-y-2 rounded-md bg-wash p-3">
          <p>
            {things(d.held.n)}, {bytes(d.held.bytes)}, in the holding place
            {d.until && `; the first are proven again and removed ${when(d.until)}`}.
          </p>
          <div className="flex flex-wrap gap-2">
            <Button
              onClick={() => back.mutate([])}
              disabled={back.isPending}
              aria-label={`Take all back on ${d.device}`}
            >
              Take all back
            </Button>
            <Button
              onClick={() => toggle("held")}
              aria-expanded={shown === "held"}
              aria-label={`What lies there, on ${d.device}`}
            >
              What lies there
            </Button>
          </div>
        </div>
      )}
      {d.removed.n > 0 && (
        <p className="text-sm text-quiet">
          {things(d.removed.n)}, {bytes(d.removed.bytes)}, went; the library brings them back.
        </p>
      )}
      <Failure error={back.error} />
      {shown && <Went device={d.device} held={shown === "held"} />}
      {!d.by && (
        <div className="flex flex-wrap gap-2">
          <Button strong onClick={() => setMaking(true)} aria-label={`Make room on ${d.device}`}>
            Make room
          </Button>
          {went && (
            <Button
              onClick={() => toggle("all")}
              aria-expanded={shown === "all"}
              aria-label={`Ledger of ${d.device}`}
            >
              Ledger
            </Button>
          )}
        </div>
      )}
      {making && <MakeRoom device={d.device} close={() => setMaking(false)} />}
    </li>
  );
}
