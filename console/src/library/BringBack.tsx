import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from "@headlessui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, body, type BringAsked } from "../api";
import { Button } from "../parts/Button";
import { Choice } from "../parts/Choice";
import { Failure } from "../parts/Failure";
import { Check, TextField } from "../parts/Field";
import { PickOne } from "../parts/PickOne";
import { bytes } from "../words";
import { useYard } from "../yard";

type To = "own" | "device" | "folder";

/** Asks where to, tells what would come, and begins. */
export function BringBack({ asked, close }: { asked: BringAsked; close: () => void }) {
  const [to, setTo] = useState<To>("own");
  const [device, setDevice] = useState<string>();
  const [folder, setFolder] = useState("");
  const [metered, setMetered] = useState(false);
  const devices = useYard().data?.devices.map((d) => d.name) ?? [];
  const order: BringAsked = { ...asked, ...(metered && { metered }) };
  if (to !== "own") order.folder = folder;
  if (to === "device") order.device = device;
  const ready = to === "own" || (folder !== "" && (to === "folder" || device !== undefined));
  const plan = useQuery({
    queryKey: ["bring-back plan", order],
    queryFn: () => body(api.POST("/api/v1/bring-back/plan", { body: order })),
    enabled: ready,
    retry: false,
  });
  const begin = useMutation({
    mutationFn: () => body(api.POST("/api/v1/bring-back", { body: order })),
    onSuccess: close,
  });
  const p = ready ? plan.data : undefined;
  return (
    <Dialog open onClose={close} className="relative z-20">
      <DialogBackdrop className="fixed inset-0 bg-tide-deep/50" />
      <DialogPanel className="fixed inset-x-4 top-12 mx-auto max-h-[calc(100dvh-6rem)] max-w-xl space-y-4 overflow-y-auto rounded-lg border border-line bg-plank p-5">
        <DialogTitle className="text-xl font-semibold">Bring back</DialogTitle>
        <Choice<To>
          label="Where to"
          value={to}
          change={setTo}
          options={[
            { value: "own", label: "Each to its own place" },
            { value: "device", label: "To a device" },
            { value: "folder", label: "Into a folder here" },
          ]}
        />
        {to === "device" && (
          <PickOne label="Device" all="choose one" options={devices} value={device} pick={setDevice} />
        )}
        {to !== "own" && (
          <TextField
            label={to === "device" ? "Folder on it" : "Folder of this computer"}
            hint={to === "device" ? "From the old phone" : "/home/ines/Pictures/back"}
            value={folder}
            change={setFolder}
          />
        )}
        {p && (
          <div className="space-y-2 rounded-md bg-wash p-3">
            <p>{p.says}</p>
            <ul className="text-sm text-quiet">
              {p.from.map((f) => (
                <li key={f.destination}>
                  From {f.destination}: {bytes(f.bytes)}
                </li>
              ))}
              {p.to.map((t) => (
                <li key={t} className="wrap-anywhere">
                  To {t}
                </li>
              ))}
              {p.free >= 0 && <li>{bytes(p.free)} are free there</li>}
            </ul>
            {p.problem && <p className="font-semibold">{p.problem}</p>}
          </div>
        )}
        {(p?.costs || metered) && (
          <Check label="It may use a network that costs" on={metered} change={setMetered} />
        )}
        <p className="text-sm text-quiet">
          Nothing that is there is written over. Each file is compared with what was proven, and has its name
          and its time again.
        </p>
        <Failure error={ready ? (plan.error ?? begin.error) : undefined} />
        <div className="flex justify-end gap-2">
          <Button onClick={close}>Not now</Button>
          <Button strong disabled={!p || p.problem !== "" || begin.isPending} onClick={() => begin.mutate()}>
            Bring it back
          </Button>
        </div>
      </DialogPanel>
    </Dialog>
  );
}
