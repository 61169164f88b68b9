import type { PlanEdit, PlanEdits } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Figures } from "./Figures";
import { useEdit, useTried } from "./queries";

/** What edits would change, told at once, before they count. */
export function Tried(props: {
  edits: PlanEdit[];
  /** The version of the plan that they are made on. */
  version: number;
  ready?: boolean;
  done: () => void;
}) {
  const { edits, version, ready = true, done } = props;
  const asked: PlanEdits = { base: version, edits };
  const { told, error, looking } = useTried(asked, ready && edits.length > 0);
  const apply = useEdit();
  const refused = JSON.stringify(apply.variables) === JSON.stringify(asked) ? apply.error : null;
  return (
    <div className="space-y-3">
      <div aria-live="polite" className="space-y-3">
        {looking && <p className="text-sm text-quiet">Looking at what it would change…</p>}
        <Failure error={refused ?? error} />
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
      <div className="flex flex-wrap gap-2">
        <Button
          strong={told !== undefined}
          disabled={told === undefined || apply.isPending}
          onClick={() => apply.mutate(asked, { onSuccess: done })}
        >
          Put it in force
        </Button>
        <Button onClick={done}>Leave it</Button>
      </div>
    </div>
  );
}
