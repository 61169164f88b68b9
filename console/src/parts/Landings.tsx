import type { SetupName } from "../api";

/** Where items would land: the keeper's own, and the awkward ones. */
export function Landings({ names }: { names: SetupName[] }) {
  return (
    <table className="w-full table-fixed text-left">
      <caption className="mb-1 text-left text-sm text-quiet">So they would lie there</caption>
      <thead className="sr-only">
        <tr>
          <th scope="col">The file here</th>
          <th scope="col">Its name there</th>
        </tr>
      </thead>
      <tbody className="divide-y divide-line">
        {names.map((n, i) => (
          <tr key={i} className="align-top">
            <td className="py-1.5 pr-3 wrap-anywhere">
              {n.from}
              {n.what && <span className="block text-sm text-quiet">{n.what}</span>}
            </td>
            <td className="py-1.5 font-mono text-sm wrap-anywhere">{n.to}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
