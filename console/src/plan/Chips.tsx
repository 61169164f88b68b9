import { Button } from "../parts/Button";

/** Some things of which one may be chosen, in a row. */
export function Chips(props: {
  label: string;
  list: readonly (readonly [key: string, says: string])[];
  pick: (key: string, says: string) => void;
}) {
  if (props.list.length === 0) return null;
  return (
    <div role="group" aria-label={props.label}>
      <p className="mb-1 text-sm text-quiet">{props.label}</p>
      <ul className="flex flex-wrap gap-2">
        {props.list.map(([key, says]) => (
          <li key={key}>
            <Button onClick={() => props.pick(key, says)}>{says}</Button>
          </li>
        ))}
      </ul>
    </div>
  );
}
