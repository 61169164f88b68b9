/** A bar with its meaning in words beside it: value of max. */
export function Meter({
  label,
  value,
  max,
  text,
  tone = "bg-moving",
}: {
  label: string;
  value: number;
  max: number;
  text: string;
  tone?: string;
}) {
  const share = max > 0 ? Math.min(100, (100 * value) / max) : 0;
  return (
    <div
      role="progressbar"
      aria-label={label}
      aria-valuenow={Math.round(share)}
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuetext={text}
      className="h-2 w-full overflow-hidden rounded-full bg-wash"
    >
      <div className={`moves h-full rounded-full ${tone}`} style={{ width: `${share}%` }} />
    </div>
  );
}
