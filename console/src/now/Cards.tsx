import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Card, Device } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Meter } from "../parts/Meter";
import { TextField } from "../parts/Field";
import { at } from "../plan/keys";
import { Choose } from "../plan/KeyField";
import { useEdit, usePlan } from "../plan/queries";

const told = ["asks", "counting", "copying", "done", "taken"];

/** Memory cards, cameras and phones on a cable that came: what is on them, and the one question that each asks. */
export default function Cards({ devices, className }: { devices: Device[]; className: string }) {
  const cards = devices.flatMap((d) =>
    d.cards
      .filter((c) => c.here && told.includes(c.state))
      .map((c) => ({
        device: d.name,
        card: c,
        near: d.sources.find((s) => !s.folder.startsWith("volume:"))?.folder, // what is copied there is taken up
      })),
  );
  if (cards.length === 0) return null;
  return (
    <section aria-labelledby="cards" className={className}>
      <h2 id="cards" className="mb-1 font-semibold">
        Cards and cameras
      </h2>
      <ul className="divide-y divide-line">
        {cards.map(({ device, card, near }) => (
          <li key={device + card.id} className="space-y-2 py-2">
            <p className="wrap-anywhere" role="status">
              {card.says}
            </p>
            {card.state === "copying" && card.of > 0 && (
              <Meter
                value={card.done}
                max={card.of}
                label={`Copied of ${card.name}`}
                text={`${card.done} of ${card.of} files`}
              />
            )}
            {card.state === "asks" && <Answer device={device} card={card} near={near} />}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The keeper's answer, for this card or for every one. */
function Answer({ device, card, near }: { device: string; card: Card; near?: string }) {
  const plan = usePlan().data;
  const edit = useEdit();
  const [every, setEvery] = useState(false);
  const [how, setHow] = useState<"take" | "copy">();
  const [rule, setRule] = useState<string>();
  const [folder, setFolder] = useState(`${near ?? "PICTURES"}/Cards`);
  const rules = plan?.rules.map((r) => r.name) ?? [];
  const by = rule ?? rules[0] ?? "";
  const answer = (value: Record<string, unknown>) => {
    const path = ["devices", device, "cards", every ? "any" : card.id];
    const said = at(plan?.values ?? {}, ...path) !== undefined; // what was said before goes
    edit.mutate({
      edits: [...(said ? [{ path }] : []), { path, value: every ? value : { name: card.name, ...value } }],
      base: plan?.version ?? 0,
    });
  };
  return (
    <div className="space-y-2">
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => answer({ leave: true })} disabled={edit.isPending}>
          Leave it
        </Button>
        <Button onClick={() => setHow(how === "copy" ? undefined : "copy")} aria-expanded={how === "copy"}>
          Copy what is new
        </Button>
        <Button onClick={() => setHow(how === "take" ? undefined : "take")} aria-expanded={how === "take"}>
          Take it up each time
        </Button>
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            checked={every}
            onChange={(e) => setEvery(e.target.checked)}
            className="accent-tide"
          />
          so with every card
        </label>
      </div>
      {how === "copy" && (
        <form
          className="flex flex-wrap items-end gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            answer({ "copy-to": folder });
          }}
        >
          <TextField label={`Into this folder of ${device}`} value={folder} change={setFolder} />
          <Button type="submit" disabled={folder.trim() === "" || edit.isPending}>
            Copy
          </Button>
        </form>
      )}
      {how === "take" && (
        <div className="flex flex-wrap items-end gap-2">
          <Choose label="By the rule" value={by} of={rules.map((r) => [r, r] as const)} change={setRule} />
          <Button onClick={() => answer({ rules: [by] })} disabled={by === "" || edit.isPending}>
            Take it up
          </Button>
        </div>
      )}
      <Failure error={edit.error} />
      <p className="text-sm text-quiet">
        Nothing on it is changed, moved or removed. The answer stands in the{" "}
        <Link to="/plan" className="underline decoration-line underline-offset-4">
          plan
        </Link>{" "}
        and can be changed there.
      </p>
    </div>
  );
}
