/** What went wrong, in the service's own words, each detail on a line of its own; nothing without an error. */
export function Failure({ error }: { error: Error | null | undefined }) {
  if (!error) return null;
  return (
    <p role="alert" className="rounded-md bg-alarm p-3 wrap-anywhere whitespace-pre-line">
      {error.message}
    </p>
  );
}
