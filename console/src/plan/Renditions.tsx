import { useState } from "react";
import type { PlanRendition } from "../api";
import { Button } from "../parts/Button";
import { TextField } from "../parts/Field";
import { and } from "../words";
import { useDraft } from "./draft";
import { Fields } from "./Fields";
import { ChangedMeanwhile, FormBox } from "./FormBox";
import { useKeysOf, type Values } from "./keys";
import { Tried } from "./Tried";

type Of = { rendition: PlanRendition; values: Values; version: number };

/** A form in which rules may send, and the ways to change it or to take it out. */
export function RenditionOfPlan(props: Of) {
  const { rendition: r, version } = props;
  const [doing, setDoing] = useState<"change" | "remove">();
  const toggle = (what: "change" | "remove") => setDoing(doing === what ? undefined : what);
  const done = () => setDoing(undefined);
  return (
    <li className="py-2">
      <span className="mr-3 wrap-anywhere">
        <span className="font-semibold">{r.name}</span>{" "}
        <span className="text-quiet">
          {r.says}; {r.rules.length > 0 ? `used by ${and(r.rules)}` : "no rule sends so"}
        </span>
      </span>
      <span className="inline-flex gap-2">
        <Button
          onClick={() => toggle("change")}
          aria-expanded={doing === "change"}
          aria-label={`Change the form ${r.name}`}
        >
          Change
        </Button>
        {r.rules.length === 0 && (
          <Button
            onClick={() => toggle("remove")}
            aria-expanded={doing === "remove"}
            aria-label={`Take out the form ${r.name}`}
          >
            Take out
          </Button>
        )}
      </span>
      {doing === "change" && <Change {...props} done={done} />}
      {doing === "remove" && (
        <FormBox label={`Take out the form ${r.name}`}>
          <Tried edits={[{ path: ["renditions", r.name] }]} version={version} done={done} />
        </FormBox>
      )}
    </li>
  );
}

function Change({ rendition: r, values, version, done }: Of & { done: () => void }) {
  const draft = useDraft(values, ["renditions", r.name]);
  return (
    <FormBox label={`Change the form ${r.name}`}>
      <ChangedMeanwhile what={r.name} version={version} is={draft.changedMeanwhile} />
      <Fields keys={useKeysOf("renditions")} draft={draft} />
      <Tried edits={draft.edits} version={version} done={done} />
    </FormBox>
  );
}

const none: Values = {};

/** Makes a form in which rules may send. */
export function AddRendition({ version }: { version: number }) {
  const [open, setOpen] = useState(false);
  if (open) return <NewRendition version={version} done={() => setOpen(false)} />;
  return (
    <div className="mt-3">
      <Button onClick={() => setOpen(true)}>Add a form</Button>
    </div>
  );
}

function NewRendition({ version, done }: { version: number; done: () => void }) {
  const [name, setName] = useState("");
  const draft = useDraft(none, []);
  return (
    <FormBox label="Add a form">
      <TextField label="Name" hint="family" value={name} change={setName} />
      <Fields keys={useKeysOf("renditions")} draft={draft} />
      <Tried
        edits={[{ path: ["renditions", name], value: draft.whole, new: true }]}
        version={version}
        ready={name !== "" && draft.edits.length > 0}
        done={done}
      />
    </FormBox>
  );
}
