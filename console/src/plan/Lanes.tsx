import { Button } from "../parts/Button";
import { Check } from "../parts/Field";
import { plural } from "../words";
import { useKeysOf, word, words, type Values } from "./keys";
import { Choose, isCheck, KeyField } from "./KeyField";
import type { Parts } from "./parts";

/** The keys that lanes over one kind of network have, and the others have not. */
const only: Record<string, readonly string[]> = {
  cellular: ["roaming", "roaming-allowance", "metered-wifi"],
  wifi: ["metered", "named", "not-named", "home-only"],
  wired: ["metered"],
};
const everywhere = ["over", "take", "gates"];

const mayHave = (over: string, key: string) =>
  only[over]?.includes(key) || !Object.values(only).some((keys) => keys.includes(key));

type Of = {
  lanes: Values[];
  take: string[];
  parts: Parts; // of the devices that go by them
  change: (lanes: Values[]) => void;
};

/** The ways that a rule may go: the first open one is used. */
export function Lanes(props: Of) {
  const { lanes, parts, change } = props;
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-quiet">Goes over, the first that is open</legend>
      <ol className="space-y-3">
        {lanes.map((l, i) => (
          <li key={i} className="space-y-2 rounded-md border border-line p-3">
            <Lane {...props} lane={l} n={i} />
          </li>
        ))}
      </ol>
      <div className="mt-2">
        <Button onClick={() => change([...lanes, { over: parts.modem ? "cellular" : "wifi" }])}>
          Add a way
        </Button>
      </div>
    </fieldset>
  );
}

function Lane({ lanes, lane: l, n, take, parts, change }: Of & { lane: Values; n: number }) {
  const keys = useKeysOf("rules", "lanes");
  const over = word(l, "over");
  const way = `Way ${n + 1}`;
  const set = (now: Values) => change(lanes.map((was, at) => (at === n ? now : was)));
  const networks = keys.find((k) => k.name === "over")?.words ?? [];
  const shown = keys.filter(
    (k) =>
      !everywhere.includes(k.name) &&
      mayHave(over, k.name) &&
      (k.name !== "roaming-allowance" || l.roaming === true),
  );
  const field = (k: (typeof shown)[number]) => (
    <KeyField key={k.name} of={k} before={way} value={l[k.name]} change={(v) => set({ ...l, [k.name]: v })} />
  );
  return (
    <>
      <div className="grid items-end gap-3 sm:grid-cols-3">
        <div>
          <Choose
            label={way}
            value={over}
            of={networks
              .filter((w) => parts.modem || w.word !== "cellular" || over === "cellular")
              .map((w) => [w.word, w.says ?? w.word])}
            // What only the other has goes with it.
            change={(to) =>
              set({ ...Object.fromEntries(Object.entries(l).filter(([k]) => mayHave(to, k))), over: to })
            }
          />
          {!parts.modem && over === "cellular" && (
            <p className="mt-1 text-sm text-quiet">No device that goes by it has a modem.</p>
          )}
        </div>
        {shown.filter((k) => !isCheck(k)).map(field)}
        {lanes.length > 1 && (
          <span>
            <Button
              onClick={() => change(lanes.filter((_, at) => at !== n))}
              aria-label={`Take out way ${n + 1}`}
            >
              Take out
            </Button>
          </span>
        )}
      </div>
      <div className="flex flex-wrap gap-x-5 gap-y-2">
        {shown.filter(isCheck).map(field)}
        <Carried way={way} carries={words(l, "take")} take={take} change={(v) => set({ ...l, take: v })} />
      </div>
    </>
  );
}

/** Which of the kinds that the rule takes go this way: all, when none is named. */
function Carried(props: {
  way: string;
  carries: string[];
  take: string[];
  change: (take: string[] | undefined) => void;
}) {
  const { carries, take } = props;
  const goes = (k: string) => carries.length === 0 || carries.includes(k);
  return take.map((k) => (
    <Check
      key={k}
      label={plural(k)}
      on={goes(k)}
      of={props.way.toLowerCase()}
      change={() => {
        const now = take.filter((o) => (o === k ? !goes(k) : goes(o)));
        props.change(now.length === take.length ? undefined : now);
      }}
    />
  ));
}
