import type { ReactNode } from "react";

/** A form that opens beside what it changes. */
export function FormBox(props: { label: string; children: ReactNode }) {
  return (
    <div role="group" aria-label={props.label} className="mt-2 space-y-3 rounded-md border border-line p-3">
      {props.children}
    </div>
  );
}

/** Told in a form when another changed the same part. */
export function ChangedMeanwhile(props: { what: string; version: number; is: boolean }) {
  if (!props.is) return null;
  return (
    <p role="status" className="rounded-md bg-wash p-3">
      {props.what} was changed meanwhile, in version {props.version} of the plan. What you did not touch is
      shown as it is there; look once more at what yours would change.
    </p>
  );
}
