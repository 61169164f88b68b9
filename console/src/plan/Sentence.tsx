import type { Phrase } from "../api";

/** Whether one path lies at or below another. */
export const below = (path: readonly string[], at: readonly string[]) =>
  at.every((key, i) => path[i] === key);

/** A sentence of the plan. Each of its words that tells of a key opens the control of that key. */
export function Sentence(props: {
  phrases: readonly Phrase[];
  of: string; // what it tells of, for who does not see where it stands
  open?: readonly string[];
  pale?: readonly string[][]; // the paths of what does nothing
  pick: (path: string[], says: string) => void;
}) {
  const { phrases, open, pale = [] } = props;
  return (
    <p className="leading-7 wrap-anywhere">
      {phrases.map((p, i) => {
        const path = p.of;
        if (!path) return <span key={i}>{p.says}</span>;
        const is = open !== undefined && open.join() === path.join();
        const quiet = pale.some((at) => below(path, at)) ? "text-quiet" : "";
        return (
          <button
            key={i}
            type="button"
            aria-expanded={is}
            aria-label={`${p.says} (change it, ${props.of})`}
            onClick={() => props.pick(path, p.says)}
            className={`rounded-sm text-left underline decoration-tide decoration-dotted underline-offset-4 hover:bg-wash aria-expanded:bg-wash ${quiet}`}
          >
            {p.says}
          </button>
        );
      })}
    </p>
  );
}
