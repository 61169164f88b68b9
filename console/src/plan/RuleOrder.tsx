import type { PlanRule } from "../api";
import { and } from "../words";
import { Choose } from "./KeyField";

/** Which rules a source follows: the first that takes an item counts. */
export function RuleOrder(props: { rules: PlanRule[]; value: string[]; change: (rules: string[]) => void }) {
  const { rules, value, change } = props;
  const more = rules.some((r) => !value.includes(r.name));
  const rows = more ? [...value, ""] : value;
  return (
    <ol className="space-y-2">
      {rows.map((name, i) => {
        const rule = rules.find((r) => r.name === name);
        const others = rules.map((r) => r.name).filter((n) => n === name || !value.includes(n));
        return (
          <li key={i}>
            <Choose
              label={
                i === 0
                  ? "Rule"
                  : `What ${and(value.slice(0, i))} ${i === 1 ? "does" : "do"} not take goes by`
              }
              value={name}
              of={[
                ...(i === 0 ? [] : [["", "no other rule"] as const]),
                ...others.map((n) => [n, n] as const),
              ]}
              change={(n) =>
                change(n === "" ? value.slice(0, i) : [...value.slice(0, i), n, ...value.slice(i + 1)])
              }
            />
            {rule && <p className="mt-1 text-sm text-quiet">{rule.says}</p>}
          </li>
        );
      })}
    </ol>
  );
}
