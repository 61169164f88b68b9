import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from "@headlessui/react";
import { X } from "lucide-react";
import { useState } from "react";
import type { Story } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { StateMark } from "../parts/StateMark";
import { useRetry, useSendNow } from "../parts/actions";
import { bytes, opens, taken, when } from "../words";
import { useStory } from "./queries";

/** A copy's story in a panel at the side: where it stands, what holds it, each step with its time. */
export function CopyStory({ device, id, close }: { device: string; id: number; close: () => void }) {
  const story = useStory(device, id);
  return (
    <Dialog open onClose={close} className="relative z-20">
      <DialogBackdrop className="fixed inset-0 bg-tide-deep/50" />
      <DialogPanel className="fixed inset-y-0 right-0 w-full max-w-lg overflow-y-auto border-l border-line bg-plank p-5">
        <div className="mb-4 flex items-start justify-between gap-3">
          <DialogTitle className="min-w-0 text-xl font-semibold break-words">
            {story.data?.copy.name ?? "A copy"}
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
  const c = story.copy;
  const facts: [string, string][] = [
    ["On", `${c.device}: ${c.path}`],
    ["Size", `${bytes(c.bytes)}, ${c.kind}`],
    ["Taken", taken(c.takenAt) + (origins[c.takenFrom] ?? "")],
    [c.remote ? "At" : "Goes to", c.remote ? `${c.destination}: ${c.remote}` : c.destination],
  ];
  if (c.proof) facts.push(["Proof", `${c.proof}${c.provenAt ? `, ${when(c.provenAt)}` : ""}`]);
  if (c.sentTwice > 0) facts.push(["Sent twice", `${bytes(c.sentTwice)}, as the send was cut`]);
  if (c.sha256) facts.push(["SHA-256", c.sha256]);
  return (
    <div className="space-y-5">
      <p className="text-lg">
        <StateMark state={c.state} />
      </p>
      {c.holds.map((h) => (
        <p key={h.gate} className="rounded-md bg-lamp p-3">
          {h.says} <span className="text-quiet">({opens(h)})</span>
        </p>
      ))}
      {c.holds.length === 0 && c.says && <p>{c.says}</p>}
      {c.todo && <p className="rounded-md bg-alarm p-3 font-semibold">{c.todo}</p>}
      <Actions story={story} />
      <dl className="grid grid-cols-[5rem_minmax(0,1fr)] gap-x-3 gap-y-1.5">
        {facts.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-quiet">{name}</dt>
            <dd className="min-w-0 wrap-anywhere">{value}</dd>
          </div>
        ))}
      </dl>
      <div>
        <h3 className="mb-2 font-semibold">Its story</h3>
        <ol className="space-y-2 border-l-2 border-line pl-4">
          {story.story.map((e, i) => (
            <li key={i}>
              <p className="text-sm text-quiet">
                <time dateTime={e.at}>{when(e.at)}</time>, {e.state}
              </p>
              <p>{e.says}</p>
            </li>
          ))}
        </ol>
      </div>
    </div>
  );
}

/** Send now, which says what it would cost before it does, and retry. */
function Actions({ story }: { story: Story }) {
  const { copy: c, cost } = story;
  const [asking, setAsking] = useState(false);
  const send = useSendNow();
  const retry = useRetry();
  const order = (metered: boolean) => {
    setAsking(false);
    send.mutate({ device: c.device, copies: [c.id], metered });
  };
  const failure = send.error ?? retry.error;
  return (
    <div className="space-y-3">
      {c.state === "waiting" && !asking && (
        <div className="flex flex-wrap items-center gap-3">
          <Button onClick={() => (cost.metered ? setAsking(true) : order(false))} disabled={send.isPending}>
            Send now
          </Button>
          <span className="text-sm text-quiet">{cost.says}</span>
        </div>
      )}
      {asking && (
        <div
          role="group"
          aria-label="Send over a network that costs"
          className="rounded-md border border-line bg-lamp p-3"
        >
          <p className="mb-3">{cost.says} Send it all the same?</p>
          <div className="flex gap-2">
            <Button strong onClick={() => order(true)}>
              Send {bytes(c.bytes)}
            </Button>
            <Button onClick={() => setAsking(false)}>Leave it waiting</Button>
          </div>
        </div>
      )}
      {c.state === "stuck" && (
        <Button onClick={() => retry.mutate({ device: c.device, copies: [c.id] })} disabled={retry.isPending}>
          Retry
        </Button>
      )}
      {send.isSuccess && c.state === "waiting" && (
        <p role="status">It is ordered and goes as soon as there is a sender free.</p>
      )}
      <Failure error={failure} />
    </div>
  );
}
