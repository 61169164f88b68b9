import { useRef, useState } from "react";
import type { Mine } from "../api";
import { Button, buttonLook } from "../parts/Button";
import { FolderOpen, Images } from "lucide-react";
import { bytes, count } from "../words";

type Network = { type?: string; saveData?: boolean };

/** Whether the phone says that it is on a network that may cost. */
function mayCost(): boolean {
  const is = (navigator as Navigator & { connection?: Network }).connection;
  return is?.type === "cellular" || is?.saveData === true;
}

const folders = "webkitdirectory" in HTMLInputElement.prototype;

/** Lets pictures and clips be chosen, or a folder where the browser can. */
export function Pick(props: { add: (files: File[]) => void; mine?: Mine; begun: boolean }) {
  const some = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const [held, setHeld] = useState<File[]>([]);
  const take = (input: HTMLInputElement) => {
    const files = [...(input.files ?? [])];
    input.value = "";
    if (files.length === 0) return;
    if (mayCost()) setHeld(files);
    else props.add(files);
  };
  const look = `${buttonLook} min-h-12! justify-center text-base!`;
  return (
    <section aria-label="Choose" className="space-y-3">
      <button
        type="button"
        className={`${look} w-full border-tide! bg-tide! text-plank!`}
        onClick={() => some.current?.click()}
      >
        <Images aria-hidden className="size-5" />
        {props.begun ? "Choose more pictures and clips" : "Choose pictures and clips"}
      </button>
      <input
        ref={some}
        type="file"
        multiple
        accept="image/*,video/*"
        aria-label="Pictures and clips"
        className="sr-only"
        tabIndex={-1}
        onChange={(e) => take(e.target)}
      />
      {folders && (
        <>
          <button type="button" className={`${look} w-full`} onClick={() => folder.current?.click()}>
            <FolderOpen aria-hidden className="size-5" />
            Choose a folder
          </button>
          <input
            ref={folder}
            type="file"
            multiple
            {...{ webkitdirectory: "" }}
            aria-label="A folder"
            className="sr-only"
            tabIndex={-1}
            onChange={(e) => take(e.target)}
          />
        </>
      )}
      {held.length > 0 && (
        <div
          role="alertdialog"
          aria-label="Over a network that may cost"
          className="space-y-2 rounded-md bg-lamp p-3"
        >
          <p>
            Your phone is on a network that may cost.{" "}
            {props.mine?.metered && props.mine.allowance !== ""
              ? `Your household lets it use ${props.mine.allowance} there.`
              : "Your household's rules keep pictures for Wi-Fi."}{" "}
            Hand over {count(held.length, "file")}, {bytes(held.reduce((n, f) => n + f.size, 0))}, all the
            same?
          </p>
          <div className="flex gap-2">
            <Button
              strong
              onClick={() => {
                props.add(held);
                setHeld([]);
              }}
            >
              Hand over now
            </Button>
            <Button onClick={() => setHeld([])}>Not now</Button>
          </div>
        </div>
      )}
    </section>
  );
}
