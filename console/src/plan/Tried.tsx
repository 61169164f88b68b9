import { useMutation } from "@tanstack/react-query";
import type { PlanEdit, PlanEdits } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Figures } from "./Figures";
import { sendEdits, useEdit } from "./queries";

/** What edits would change, before they count; nothing until they were tried, and nothing of earlier ones. */
export function Tried(props: {
  edits: PlanEdit[];
  /** The version of the plan that they are made on. */
  version: number;
  ready?: boolean;
  done: () => void;
}) {
  const { edits, version, ready = true, done } = props;
  const asked: PlanEdits = { base: version, edits };
  const isOf = (of?: PlanEdits) => JSON.stringify(of) === JSON.stringify(asked);
  const apply = useEdit();
  const tried = useMutation({ mutationFn: (of: PlanEdits) => sendEdits({ ...of, try: true }) });
  const told = isOf(tried.variables) ? tried.data : undefined;
  const error = isOf(apply.variables) ? apply.error : isOf(tried.variables) ? tried.error : null;
  return (
    <div className="space-y-3" aria-live="polite">
      <div className="flex flex-wrap gap-2">
        <Button
          disabled={!ready || edits.length === 0 || tried.isPending}
          onClick={() => {
            apply.reset();
            tried.mutate(asked);
          }}
        >
          See what it would change
        </Button>
        <Button
          strong={told !== undefined}
          disabled={told === undefined || apply.isPending}
          onClick={() => apply.mutate(asked, { onSuccess: done })}
        >
          Put it in force
        </Button>
        <Button onClick={done}>Leave it</Button>
      </div>
      <Failure error={error} />
      {told && (
        <div className="rounded-md bg-wash p-3">
          <ul className="list-disc space-y-1 pl-5 wrap-anywhere">
            {[...told.says, ...told.notes].map((s) => (
              <li key={s}>{s}</li>
            ))}
          </ul>
          {told.tried && <Figures tried={told.tried} />}
        </div>
      )}
    </div>
  );
}
