import { useState } from "react";
import type { InboxPhone } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Meter } from "../parts/Meter";
import { bytes, when } from "../words";
import { Keys } from "./AddPhone";
import { useAddPhone, useRevokePhone, useTakeBack } from "./phones";

/** What a phone handed over, how full its inbox is, and its keys. */
export function HandsOver({ phone: p }: { phone: InboxPhone }) {
  const keys = useAddPhone();
  const revoke = useRevokePhone(p.name);
  const back = useTakeBack(p.name);
  const [leaving, setLeaving] = useState(false);
  const full = `${bytes(p.inbox + p.held)} of ${bytes(p.most)}`;
  return (
    <div className="mt-3 space-y-3">
      <p>
        {p.says}
        {p.last && ` Last heard of ${when(p.last)}.`}
      </p>
      <div>
        <p className="mb-1 text-sm text-quiet">Its inbox: {full}</p>
        <Meter label={`Inbox of ${p.name}`} value={p.inbox + p.held} max={p.most} text={full} />
      </div>
      <div className="flex flex-wrap items-start gap-2">
        <Button
          onClick={() => keys.mutate({ name: p.name })}
          aria-label={`New keys for ${p.name}`}
          disabled={keys.isPending}
        >
          New keys
        </Button>
        {p.held > 0 && (
          <Button
            onClick={() => back.mutate()}
            aria-label={`Take back what ${p.name} has in the holding place`}
          >
            Take back
          </Button>
        )}
        {!p.revoked &&
          (leaving ? (
            <p className="flex flex-wrap items-center gap-2">
              It is then answered no more; what it handed over goes on.
              <Button
                onClick={() => {
                  revoke.mutate();
                  setLeaving(false);
                }}
                aria-label={`Revoke it: ${p.name}`}
              >
                Revoke it
              </Button>
              <Button onClick={() => setLeaving(false)}>Keep it</Button>
            </p>
          ) : (
            <Button onClick={() => setLeaving(true)} aria-label={`Revoke ${p.name}`}>
              Revoke
            </Button>
          ))}
      </div>
      <Failure error={keys.error ?? revoke.error ?? back.error} />
      {keys.data && (
        <div className="rounded-lg border border-tide p-4">
          <div className="flex items-start justify-between gap-3">
            <h3 className="font-semibold">New keys for {p.name}</h3>
            <Button onClick={() => keys.reset()}>Done</Button>
          </div>
          <Keys keys={keys.data} />
        </div>
      )}
    </div>
  );
}
