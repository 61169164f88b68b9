import { rows, type Bands as DayBands } from "./day";

const day = 86400_000;

function clock(ms: number): string {
  const minutes = Math.round(ms / 60_000);
  return `${String(Math.floor(minutes / 60)).padStart(2, "0")}:${String(minutes % 60).padStart(2, "0")}`;
}

/** A day as bands, for who sees. */
export function Bands({ bands, device }: { bands: DayBands; device: string }) {
  const x = (ms: number) => (1440 * ms) / day; // minutes
  return (
    <div
      role="img"
      aria-label={`The day of ${device}: network, power, use, when it ran, and what became safe; the table says the same`}
      className="grid grid-cols-[auto_1fr] items-center gap-x-3 gap-y-1 text-sm text-quiet"
    >
      {rows.map((row) => (
        <div key={row} className="contents">
          <span>{row}</span>
          <svg viewBox="0 0 1440 10" preserveAspectRatio="none" className="h-4 w-full rounded-sm">
            <rect width={1440} height={10} className="fill-wash" />
            {bands[row].map((s, n) => (
              <rect
                key={n}
                x={x(s.from)}
                width={Math.max(4, x(s.to) - x(s.from))}
                height={10}
                className={s.fill}
              >
                <title>{`${clock(s.from)} to ${clock(s.to)}: ${s.says}`}</title>
              </rect>
            ))}
          </svg>
        </div>
      ))}
      <span />
      <span className="flex justify-between">
        {["00:00", "06:00", "12:00", "18:00", "24:00"].map((h) => (
          <span key={h}>{h}</span>
        ))}
      </span>
    </div>
  );
}

/** The same as a table. */
export function Table({ bands }: { bands: DayBands }) {
  const all = rows.flatMap((row) => bands[row].map((s) => ({ row, ...s }))).sort((a, b) => a.from - b.from);
  if (all.length === 0) return <p className="text-sm text-quiet">Nothing is known of this day.</p>;
  return (
    <div>
      <table className="w-full text-left text-sm">
        <thead>
          <tr className="text-quiet">
            <th className="pr-4 font-normal">From</th>
            <th className="pr-4 font-normal">To</th>
            <th className="font-normal">What</th>
          </tr>
        </thead>
        <tbody>
          {all.map((s, i) => (
            <tr key={i}>
              <td className="pr-4">{clock(s.from)}</td>
              <td className="pr-4">{clock(s.to)}</td>
              <td>
                {s.row}: {s.says}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
