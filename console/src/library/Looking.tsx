import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from "@headlessui/react";
import { Copy as CopyIcon, Download, X } from "lucide-react";
import { useState } from "react";
import type { Story } from "../api";
import { Button, buttonLook } from "../parts/Button";
import { Face } from "../parts/Face";
import { Failure } from "../parts/Failure";
import { StateMark } from "../parts/StateMark";
import { opened } from "../queue/search";
import { useStory } from "../queue/queries";
import { bytes, taken } from "../words";
import { Said } from "./Said";

/** One item, large: from its device, or from a place where it is there no longer. */
export function Looking({ at, close }: { at: string; close: () => void }) {
  const is = opened(at);
  const story = useStory(is?.device ?? "", is?.key ?? "");
  return (
    <Dialog open onClose={close} className="relative z-20">
      <DialogBackdrop className="fixed inset-0 bg-tide-deep/70" />
      <DialogPanel className="fixed inset-0 flex flex-col overflow-y-auto bg-plank sm:inset-6 sm:rounded-lg lg:flex-row lg:overflow-hidden">
        {story.data && <Large story={story.data} />}
        <div className="w-full shrink-0 space-y-4 p-5 lg:w-96 lg:overflow-y-auto">
          <div className="flex items-start justify-between gap-3">
            <DialogTitle className="min-w-0 text-xl font-semibold break-words">
              {story.data?.item.name ?? "An item"}
            </DialogTitle>
            <Button onClick={close} aria-label="Close">
              <X aria-hidden className="size-4" />
            </Button>
          </div>
          <Failure error={story.error} />
          {story.data && <Facts story={story.data} />}
        </div>
      </DialogPanel>
    </Dialog>
  );
}

const originalOf = (i: { device: string; key: string }, more = "") =>
  `/api/v1/items/${encodeURIComponent(i.device)}/${encodeURIComponent(i.key)}/original${more}`;

const shows = /\.(jpe?g|png|gif|webp)$/i;
const plays = /\.(mp4|m4v|mov|webm)$/i;

function Large({ story }: { story: Story }) {
  const i = story.item;
  const [failed, setFailed] = useState(false);
  const look = "max-h-[60dvh] max-w-full object-contain lg:max-h-full";
  return (
    <div className="grid min-h-48 min-w-0 shrink-0 grow place-items-center lg:shrink bg-tide-deep p-2">
      {failed || !(shows.test(i.name) || plays.test(i.name)) ? (
        <Face device={i.device} item={i.key} kind={i.kind} className="aspect-square w-80 max-w-full" />
      ) : plays.test(i.name) ? (
        // Clips of a household have no captions to show.
        // eslint-disable-next-line jsx-a11y/media-has-caption
        <video src={originalOf(i, "?show=true")} controls className={look} onError={() => setFailed(true)} />
      ) : (
        <img
          src={originalOf(i, "?show=true")}
          alt={i.caption || i.name}
          className={look}
          onError={() => setFailed(true)}
        />
      )}
    </div>
  );
}

function Facts({ story }: { story: Story }) {
  const i = story.item;
  const whole = story.lies.filter((l) => !l.shelf && !l.part);
  return (
    <>
      <div>
        <p className="text-lg">
          <StateMark state={i.state} />
        </p>
        <p>{i.says}</p>
        {i.gone && <p className="text-quiet">It is no longer on {i.device}.</p>}
      </div>
      {i.caption && <p className="italic">{i.caption}</p>}
      <p>
        <a href={originalOf(i)} download className={buttonLook}>
          <Download aria-hidden className="size-4" /> Download
        </a>
      </p>
      <dl className="grid grid-cols-[5rem_minmax(0,1fr)] gap-x-3 gap-y-1.5">
        <dt className="text-quiet">Taken</dt>
        <dd>{taken(i.takenAt)}</dd>
        <dt className="text-quiet">Size</dt>
        <dd>
          {bytes(i.bytes)}, {i.kind}
        </dd>
        {i.camera && (
          <>
            <dt className="text-quiet">Camera</dt>
            <dd>{i.camera}</dd>
          </>
        )}
        <dt className="text-quiet">On</dt>
        <dd className="wrap-anywhere">
          {i.device}: {i.path}
        </dd>
      </dl>
      <Said key={`${i.device} ${i.key}`} story={story} />
      <section aria-label="Where it lies" className="space-y-2">
        <h3 className="font-semibold">Where it lies</h3>
        {whole.length === 0 && <p className="text-quiet">Nowhere but on its device yet.</p>}
        {whole.map((c) => (
          <div key={c.destination} className="rounded-md bg-wash p-3">
            <p className="font-semibold">
              {c.destination}
              {c.reduced && <span className="font-normal">, a smaller copy ({bytes(c.bytes)})</span>}
            </p>
            <p className="flex items-start justify-between gap-2">
              {c.link ? (
                <a
                  href={c.link}
                  target="_blank"
                  rel="noreferrer"
                  className="min-w-0 text-sm wrap-anywhere underline"
                >
                  {c.at}
                </a>
              ) : (
                <span className="min-w-0 text-sm wrap-anywhere">{c.at}</span>
              )}
              <CopyText text={c.at} of={c.destination} />
            </p>
          </div>
        ))}
      </section>
    </>
  );
}

function CopyText({ text, of }: { text: string; of: string }) {
  const [done, setDone] = useState(false);
  return (
    <Button
      aria-label={`${done ? "Copied" : "Copy"}: the path at ${of}`}
      onClick={() => void navigator.clipboard.writeText(text).then(() => setDone(true))}
    >
      <CopyIcon aria-hidden className="size-4" />
      {done ? "Copied" : "Copy"}
    </Button>
  );
}
