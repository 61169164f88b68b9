import type { PlanTried, TriedKind, TriedWay } from "../api";
import { and, bytes, count, ofKind } from "../words";

/** What a plan would do to the yard's items, today's beside it. */
export function Figures({ tried: t }: { tried: PlanTried }) {
  const same = t.devices.filter(isSame).map((d) => d.device);
  return (
    <div className="mt-3 space-y-3 border-t border-line pt-3">
      {same.length > 0 && <p>Nothing changes on {and(same)}.</p>}
      {t.devices
        .filter((d) => !isSame(d))
        .map((d) => (
          <section key={d.device} aria-label={`On ${d.device}`} className="space-y-2">
            <h3 className="font-semibold">On {d.device}</h3>
            {d.new.length + d.left.length === 0 && <p>The same items are taken up as today.</p>}
            <Kinds title="newly taken up" list={d.new} />
            <Kinds title="left out" list={d.left} />
            {d.uncounted.n > 0 && (
              <p className="rounded-md bg-lamp p-2">
                {count(d.uncounted.n, "file")}, {bytes(d.uncounted.bytes)}, count as safe today, and would not
                until they are everywhere that the plan asks for.
              </p>
            )}
            {d.unknown.map((u) => (
              <p key={u}>{u} was not looked through yet: what is in it is not counted here.</p>
            ))}
            <div className="grid gap-3 sm:grid-cols-2">
              <Ways title="Today" list={d.today} />
              <Ways title="Then" list={d.then} />
            </div>
          </section>
        ))}
      {t.places.length > 0 && (
        <section aria-label="Where it goes">
          <h3 className="font-semibold">Where it goes</h3>
          <ul className="space-y-1">
            {t.places.map((p) => (
              <li key={p.name} className={p.fits ? "" : "rounded-md bg-lamp p-2"}>
                {p.says}
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

/** Whether a plan would do nothing to a device's items. */
function isSame(d: PlanTried["devices"][number]): boolean {
  const changes = d.new.length + d.left.length + d.unknown.length + d.uncounted.n;
  return changes === 0 && JSON.stringify(d.today) === JSON.stringify(d.then);
}

function Kinds({ title, list }: { title: string; list: TriedKind[] }) {
  return list.map((k) => (
    <details key={k.kind + k.why}>
      <summary className="cursor-pointer">
        {ofKind(k.n, k.kind)} {title}, {bytes(k.bytes)}. {k.why}
      </summary>
      <ul className="mt-1 pl-5 text-sm wrap-anywhere text-quiet">
        {k.paths.map((p) => (
          <li key={p}>{p}</li>
        ))}
        {k.n > k.paths.length && <li>and {count(k.n - k.paths.length, "more", "more")}</li>}
      </ul>
    </details>
  ));
}

function Ways({ title, list }: { title: string; list: TriedWay[] }) {
  return (
    <div>
      <h4 className="text-sm text-quiet">{title}</h4>
      {list.length === 0 && <p>Nothing is to come.</p>}
      <ul className="space-y-1">
        {list.map((w) => (
          <li key={w.says}>
            {count(w.n, "copy", "copies")}, {bytes(w.bytes)}: {w.says}
          </li>
        ))}
      </ul>
    </div>
  );
}
