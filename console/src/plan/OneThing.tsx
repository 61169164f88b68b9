import { useEffect, useRef, type ReactNode } from "react";
import type { Draft } from "./draft";
import { ChangedMeanwhile } from "./FormBox";
import { Tried } from "./Tried";

/** One thing of the plan that is being changed: its control, what the change would do, and its end. */
export function OneThing(props: {
  title: string;
  what: string; // whose it is
  draft: Draft;
  version: number;
  done: () => void;
  children: ReactNode;
}) {
  const { title, draft, version, done } = props;
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
      aria-label={title}
      className="my-2 space-y-3 rounded-md border border-tide p-3 outline-none"
    >
      <ChangedMeanwhile what={props.what} version={version} is={draft.changedMeanwhile} />
      {props.children}
      <Tried edits={draft.edits} version={version} done={done} />
    </div>
  );
}
