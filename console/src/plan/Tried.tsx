import { useMutation } from "@tanstack/react-query";
import type { PlanEdited } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Figures } from "./Figures";
import { useEdit } from "./queries";

/** What an edit would change, before it counts; nothing until it was tried. */
export function Tried(props: {
  ready: boolean;
  send: (onlyTry: boolean) => Promise<PlanEdited>;
  done: () => void;
}) {
  const { ready, send, done } = props;
  const apply = useEdit(send);
  const tried = useMutation({ mutationFn: () => send(true) });
  return (
    <div className="space-y-3" aria-live="polite">
      <div className="flex flex-wrap gap-2">
        <Button disabled={!ready || tried.isPending} onClick={() => tried.mutate()}>
          See what it would change
        </Button>
        <Button
          strong={tried.isSuccess}
          disabled={!tried.isSuccess || apply.isPending}
          onClick={() => apply.mutate(undefined, { onSuccess: done })}
        >
          Put it in force
        </Button>
        <Button onClick={done}>Leave it</Button>
      </div>
      <Failure error={tried.error ?? apply.error} />
      {tried.data && (
        <div className="rounded-md bg-wash p-3">
          <ul className="list-disc space-y-1 pl-5 wrap-anywhere">
            {[...tried.data.says, ...tried.data.notes].map((s) => (
              <li key={s}>{s}</li>
            ))}
          </ul>
          {tried.data.tried && <Figures tried={tried.data.tried} />}
        </div>
      )}
    </div>
  );
}
