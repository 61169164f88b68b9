import { useEffect, useRef } from "react";
import { Control, type Of } from "./Control";
import { ChangedMeanwhile } from "./FormBox";
import { Tried } from "./Tried";

/** One thing of the plan that is being changed: its control, what the change would do, and its end. */
export function OneThing(
  props: Of & {
    says: string; // the words that told of it
    what: string; // whose it is
    version: number;
    done: () => void;
  },
) {
  const { draft, version, done } = props;
  const box = useRef<HTMLDivElement>(null);
  const leave = useRef(done);
  useEffect(() => {
    leave.current = done;
  });
  useEffect(() => {
    // Who works by keyboard goes on in what was opened, and is back where they were when it closes.
    const before = document.activeElement;
    const now = box.current;
    now?.focus();
    const escape = (e: KeyboardEvent) => e.key === "Escape" && leave.current();
    now?.addEventListener("keydown", escape);
    return () => {
      now?.removeEventListener("keydown", escape);
      if (before instanceof HTMLElement && before.isConnected) before.focus();
    };
  }, []);
  return (
    <div
      ref={box}
      role="group"
      tabIndex={-1}
      aria-label={`${props.what}: ${props.says}`}
      className="my-2 space-y-3 rounded-md border border-tide p-3 outline-none"
    >
      <ChangedMeanwhile what={props.what} version={version} is={draft.changedMeanwhile} />
      <Control {...props} />
      <Tried edits={draft.edits} version={version} done={done} />
    </div>
  );
}
