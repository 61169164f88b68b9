import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from "@headlessui/react";
import { X } from "lucide-react";
import { useState } from "react";
import type { Copy, Story } from "../api";
import { Button } from "../parts/Button";
import { Face } from "../parts/Face";
import { Failure } from "../parts/Failure";
import { StateMark } from "../parts/StateMark";
import { bytes, opens, shelf, taken, when } from "../words";
import { SeeSmaller } from "./SeeSmaller";
import { StoryActions } from "./StoryActions";
import { useStory } from "./queries";

/** An item's story in a panel at the side: its copy at each place, what holds it, each step with its time. */
export function ItemStory({ device, name, close }: { device: string; name: string; close: () => void }) {
  const story = useStory(device, name);
  return (
    <Dialog open onClose={close} className="relative z-20">
      <DialogBackdrop className="fixed inset-0 bg-tide-deep/50" />
      <DialogPanel className="fixed inset-y-0 right-0 w-full max-w-lg overflow-y-auto border-l border-line bg-plank p-5">
        <div className="mb-4 flex items-start justify-between gap-3">
          <DialogTitle className="min-w-0 text-xl font-semibold break-words">
            {story.data?.item.name ?? "An item"}
          </DialogTitle>
          <Button onClick={close} aria-label="Close">
            <X aria-hidden className="size-4" />
          </Button>
        </div>
        <Failure error={story.error} />
        {story.data && <Body story={story.data} />}
      </DialogPanel>
    </Dialog>
  );
}

const origins: Record<string, string> = {
  header: "",
  "header-nz": " (no zone in the header; the device's is assumed)",
  file: " (the file's own time; its header has none)",
};

function Body({ story }: { story: Story }) {
  const i = story.item;
  const [smaller, setSmaller] = useState(false);
  return (
    <div className="space-y-5">
      <Face
        key={i.key}
        device={i.device}
        item={i.key}
        kind={i.kind}
        className="aspect-[4/3] w-full max-w-80"
      />
      <div>
        <p className="text-lg">
          <StateMark state={i.state} />
        </p>
        <p>{i.says}</p>
        {i.gone && (
          <p className="text-quiet">The file is no longer on the device, or has another content now.</p>
        )}
      </div>
      <StoryActions story={story} />
      {(i.kind === "photo" || i.kind === "graphic") && !i.gone && (
        <div>
          <Button onClick={() => setSmaller(true)}>See it smaller</Button>
          {smaller && <SeeSmaller item={i} close={() => setSmaller(false)} />}
        </div>
      )}
      <Facts
        facts={[
          ["On", `${i.device}: ${i.path}`],
          ["Size", `${bytes(i.bytes)}, ${i.kind}`],
          ...(i.parts.length > 0
            ? [
                ["With", i.parts.map((p) => `${p.name} (${p.kind}, ${bytes(p.bytes)})`).join("; ")] as [
                  string,
                  string,
                ],
              ]
            : []),
          ["Taken", taken(i.takenAt) + (origins[i.takenFrom] ?? "")],
        ]}
      />
      {i.copies.map((c) => (
        <Place key={c.destination + (c.shelf ?? "") + (c.part ?? "")} copy={c} />
      ))}
      <div>
        <h3 className="mb-2 font-semibold">Its story</h3>
        <ol className="space-y-2 border-l-2 border-line pl-4">
          {story.story.map((e, at) => (
            <li key={at}>
              <p className="text-sm text-quiet">
                <time dateTime={e.at}>{when(e.at)}</time>, {e.destination && `${e.destination}, `}
                {e.shelf && `${shelf(e.shelf)}, `}
                {e.part && `${e.part}, `}
                {e.state}
              </p>
              <p>{e.says}</p>
            </li>
          ))}
        </ol>
      </div>
    </div>
  );
}

/** An item's copy at one place: where it lies or goes, what holds it, how it was proven. */
function Place({ copy: c }: { copy: Copy }) {
  const facts: [string, string][] = [];
  if (c.remote) facts.push(["As", c.remote]);
  if (c.reduced) facts.push(["Form", `reduced, ${bytes(c.bytes)}`]);
  if (c.proof) facts.push(["Proof", `${c.proof}${c.provenAt ? `, ${when(c.provenAt)}` : ""}`]);
  if (c.sentTwice > 0) facts.push(["Sent twice", `${bytes(c.sentTwice)}, as the send was cut`]);
  if (c.sha256) facts.push(["SHA-256", c.sha256]);
  return (
    <section
      aria-label={[c.destination, c.shelf && shelf(c.shelf), c.part].filter(Boolean).join(", ")}
      className="space-y-2 border-t border-line pt-3"
    >
      <h3 className="flex flex-wrap items-baseline justify-between gap-x-3 font-semibold">
        <span>
          {c.destination}
          {c.shelf && <span className="font-normal text-quiet">, {shelf(c.shelf)}</span>}
          {c.part && <span className="font-normal wrap-anywhere text-quiet">, {c.part}</span>}
        </span>{" "}
        <StateMark state={c.state} />
      </h3>
      {c.holds.map((h) => (
        <p key={h.gate} className="rounded-md bg-lamp p-3">
          {h.says} <span className="text-quiet">({opens(h)})</span>
        </p>
      ))}
      {c.holds.length === 0 && c.says && c.state !== "safe" && <p>{c.says}</p>}
      {c.todo && <p className="rounded-md bg-alarm p-3 font-semibold">{c.todo}</p>}
      <Facts facts={facts} />
    </section>
  );
}

function Facts({ facts }: { facts: [string, string][] }) {
  if (facts.length === 0) return null;
  return (
    <dl className="grid grid-cols-[5rem_minmax(0,1fr)] gap-x-3 gap-y-1.5">
      {facts.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-quiet">{name}</dt>
          <dd className="min-w-0 wrap-anywhere">{value}</dd>
        </div>
      ))}
    </dl>
  );
}
