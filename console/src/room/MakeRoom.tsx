import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from "@headlessui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type RoomAsked, type RoomPlan } from "../api";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { Check, Checks, TextField } from "../parts/Field";
import { sendEdits } from "../plan/queries";
import { and, bytes, ofKind, plural, things } from "../words";
import { useRoomPlan } from "./queries";

const kinds = ["photo", "raw", "graphic", "video"] as const;
const GB = 1e9;

/** A whole number, or undefined for what is none. */
function whole(text: string): number | undefined {
  if (text.trim() === "") return 0;
  return /^\d{1,4}$/.test(text.trim()) ? Number(text) : undefined;
}

/** Asks what may go, tells what would, and begins, once or by itself from now on. */
export function MakeRoom({ device, close }: { device: string; close: () => void }) {
  const client = useQueryClient();
  const [keep, setKeep] = useState("90");
  const [free, setFree] = useState("");
  const [held, setHeld] = useState("7");
  const [only, setOnly] = useState<string[]>([]);
  const [places, setPlaces] = useState("2");
  const [small, setSmall] = useState(false);
  const [metered, setMetered] = useState(false);
  const days = whole(keep);
  const holds = whole(held);
  const gigabytes = whole(free);
  const right = days !== undefined && gigabytes !== undefined && holds !== undefined && holds > 0;
  const order: RoomAsked | undefined = right
    ? {
        device,
        keep: days,
        free: gigabytes * GB,
        held: holds,
        places: Number(places),
        ...(only.length > 0 && { kinds: only as RoomAsked["kinds"] }),
        ...(small && { small }),
        ...(metered && { metered }),
      }
    : undefined;
  const plan = useRoomPlan(order);
  const done = () => {
    close();
    return client.invalidateQueries({ queryKey: ["room"] });
  };
  const begin = useMutation({
    mutationFn: (asked: RoomAsked) => body(api.POST("/api/v1/room", { body: asked })),
    onSuccess: done,
  });
  const always = useMutation({
    mutationFn: () => {
      const stays = and([...(days ? [`${days} days`] : []), ...(small ? ["small"] : [])]).replace(
        " and ",
        ", ",
      );
      return sendEdits({
        edits: [
          {
            path: ["devices", device, "room"],
            value: {
              ...(gigabytes ? { free: `${gigabytes} GB` } : {}),
              ...(stays ? { keep: stays } : {}),
              places: Number(places),
              held: `${holds} days`,
            },
          },
        ],
      });
    },
    onSuccess: done,
  });
  const p = order && plan.data;
  return (
    <Dialog open onClose={close} className="relative z-20">
      <DialogBackdrop className="fixed inset-0 bg-tide-deep/50" />
      <DialogPanel className="fixed inset-x-4 top-6 mx-auto max-h-[calc(100dvh-3rem)] max-w-xl space-y-4 overflow-y-auto rounded-lg border border-line bg-plank p-5">
        <DialogTitle className="text-xl font-semibold">Make room on {device}</DialogTitle>
        <div className="grid gap-3 sm:grid-cols-3">
          <TextField label="The last days stay" value={keep} change={setKeep} />
          <TextField label="Until so many GB are free" hint="20" value={free} change={setFree} />
          <TextField label="Days in the holding place" value={held} change={setHeld} />
        </div>
        <Checks title="Only these kinds (all without)" of={kinds} on={only} label={plural} change={setOnly} />
        <div>
          <p className="mb-1 text-sm text-quiet">Proven at so many places</p>
          <Choice
            label="Proven at so many places"
            value={places}
            change={setPlaces}
            options={["1", "2", "3"].map((n) => ({ value: n, label: n === "1" ? "one" : n }))}
          />
        </div>
        <Check label="A smaller picture stays in the place of each" on={small} change={setSmall} />
        {p && <WouldGo plan={p} />}
        {!right && <p role="alert">Write whole numbers; a day at least in the holding place.</p>}
        {(p?.costs || metered) && (
          <Check label="Proofs may use a network that costs" on={metered} change={setMetered} />
        )}
        <Failure error={order ? (plan.error ?? begin.error ?? always.error) : undefined} />
        <div className="flex flex-wrap justify-end gap-2">
          <Button onClick={close}>Not now</Button>
          <Button
            disabled={!order || (!days && !gigabytes) || only.length > 0 || always.isPending}
            onClick={() => always.mutate()}
          >
            By itself from now on
          </Button>
          <Button
            strong
            disabled={!order || !p || p.problem !== "" || begin.isPending}
            onClick={() => order && begin.mutate(order)}
          >
            Make room
          </Button>
        </div>
      </DialogPanel>
    </Dialog>
  );
}

function WouldGo({ plan: p }: { plan: RoomPlan }) {
  return (
    <div className="space-y-2 rounded-md bg-wash p-3" role="status">
      <p>{p.says}</p>
      {p.n > 0 && (
        <ul className="text-sm text-quiet">
          <li>{and(p.kinds.map((k) => `${ofKind(k.n, k.kind)}, ${bytes(k.bytes)}`))}</li>
          {p.folders.slice(0, 4).map((f) => (
            <li key={f.folder} className="wrap-anywhere">
              From {f.folder}: {things(f.n)}, {bytes(f.bytes)}
            </li>
          ))}
        </ul>
      )}
      {p.stays.length > 0 && (
        <>
          <p className="text-sm font-semibold">What stays</p>
          <ul className="text-sm text-quiet">
            {p.stays.map((s) => (
              <li key={s.reason}>{s.says}</li>
            ))}
          </ul>
        </>
      )}
      {p.problem && p.n > 0 && <p className="font-semibold">{p.problem}</p>}
    </div>
  );
}
