import { useEffect, useState } from "react";
import type { JoinCode } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { TextField } from "../parts/Field";
import { QR } from "../parts/QR";
import { when } from "../words";
import { useNewCode } from "./queries";

/** A one-time code for a device that joins, as a picture and as text, until it joined. */
export function AddDevice({ name, known, close }: { name: string; known: string[]; close: () => void }) {
  const [typed, setTyped] = useState(name);
  const code = useNewCode();
  const [before, setBefore] = useState<string[]>([]);
  const joined = code.data && known.includes(code.data.device) && !before.includes(code.data.device);
  return (
    <section aria-labelledby="add-device" className="rounded-lg border border-tide bg-plank p-5">
      <div className="flex items-start justify-between gap-3">
        <h2 id="add-device" className="text-lg font-semibold">
          {joined ? `${code.data.device} joined` : "A device joins"}
        </h2>
        <Button onClick={close}>{joined ? "Done" : "Cancel"}</Button>
      </div>
      {joined && (
        <p className="mt-2">
          It runs by itself from now on. Its folders are chosen on the page Plan, if they are not there yet.
        </p>
      )}
      {!code.data && (
        <form
          className="mt-3 flex max-w-md flex-wrap items-end gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            setBefore(known);
            code.mutate(typed.trim());
          }}
        >
          <TextField label="What the device is called" hint="galley-phone" value={typed} change={setTyped} />
          <Button strong type="submit" disabled={typed.trim() === "" || code.isPending}>
            Make a code
          </Button>
        </form>
      )}
      <Failure error={code.error} />
      {code.data && !joined && <Code code={code.data} again={() => code.mutate(code.data.device)} />}
    </section>
  );
}

function Code({ code, again }: { code: JoinCode; again: () => void }) {
  const [over, setOver] = useState(false);
  useEffect(() => {
    const end = setTimeout(() => setOver(true), new Date(code.until).getTime() - Date.now());
    return () => {
      clearTimeout(end);
      setOver(false);
    };
  }, [code.until]);
  if (over) {
    return (
      <p className="mt-3 flex flex-wrap items-center gap-3">
        This code is too old. <Button onClick={again}>Make another</Button>
      </p>
    );
  }
  return (
    <div className="mt-4 flex flex-wrap items-start gap-6">
      <QR rows={code.qr} of={code.device} />
      <div className="max-w-md min-w-0 space-y-3">
        <p>
          On {code.device}, once, until {when(code.until)}: read the picture, or type
        </p>
        <p className="rounded-md bg-wash p-3 font-semibold wrap-anywhere">
          <code>yardtide device join {code.byHand}</code>
        </p>
        <p>
          Typed, the device shows a fingerprint. It must be this one:{" "}
          <code className="font-semibold wrap-anywhere">{code.fingerprint}</code>
        </p>
        <p className="text-sm wrap-anywhere text-quiet">
          What the picture says: <code>{code.code}</code>
        </p>
      </div>
    </div>
  );
}
