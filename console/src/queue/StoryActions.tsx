import { useState } from "react";
import type { Story } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { useRetry, useSendNow } from "../parts/actions";
import { bytes } from "../words";

/** Send now, which says what it would cost before it does, and retry. */
export function StoryActions({ story }: { story: Story }) {
  const { item: i, cost } = story;
  const [asking, setAsking] = useState(false);
  const send = useSendNow();
  const retry = useRetry();
  const order = (metered: boolean) => {
    setAsking(false);
    send.mutate({ device: i.device, items: [i.key], metered });
  };
  const failure = send.error ?? retry.error;
  return (
    <div className="space-y-3">
      {i.state === "waiting" && !asking && (
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
              Send {bytes(cost.bytes)}
            </Button>
            <Button onClick={() => setAsking(false)}>Leave it waiting</Button>
          </div>
        </div>
      )}
      {i.state === "stuck" && (
        <Button onClick={() => retry.mutate({ device: i.device, items: [i.key] })} disabled={retry.isPending}>
          Retry
        </Button>
      )}
      {send.isSuccess && i.state === "waiting" && (
        <p role="status">It is ordered and goes as soon as there is a sender free.</p>
      )}
      <Failure error={failure} />
    </div>
  );
}
