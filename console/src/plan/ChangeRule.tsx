import { useState } from "react";
import type { PlanRule } from "../api";
import { Button } from "../parts/Button";
import { TextField } from "../parts/Field";
import { useDraft } from "./draft";
import { ChangedMeanwhile, FormBox } from "./FormBox";
import type { Values } from "./keys";
import { all, useParts } from "./parts";
import { RuleForm } from "./RuleForm";
import { Tried } from "./Tried";

type OfRule = { rule: PlanRule; values: Values; version: number };

/** Changes a rule, or takes out one that nobody follows. Only what the keeper changes is sent. */
export function ChangeRule(props: OfRule) {
  const { rule: r } = props;
  const [doing, setDoing] = useState<"change" | "remove">();
  const done = () => setDoing(undefined);
  if (doing === undefined) {
    return (
      <div className="mt-1 flex gap-2">
        <Button onClick={() => setDoing("change")} aria-label={`Change ${r.name}`}>
          Change
        </Button>
        {r.follows.length === 0 && (
          <Button onClick={() => setDoing("remove")} aria-label={`Take out ${r.name}`}>
            Take out
          </Button>
        )}
      </div>
    );
  }
  return (
    <FormBox label={`Change ${r.name}`}>
      {doing === "change" ? (
        <Change {...props} done={done} />
      ) : (
        <Tried edits={[{ path: ["rules", r.name] }]} version={props.version} done={done} />
      )}
    </FormBox>
  );
}

function Change({ rule: r, values, version, done }: OfRule & { done: () => void }) {
  const draft = useDraft(values, ["rules", r.name]);
  const parts = useParts(r.follows.map((s) => s.device));
  return (
    <>
      <ChangedMeanwhile what={r.name} version={version} is={draft.changedMeanwhile} />
      <RuleForm draft={draft} parts={parts} rule={r.name} />
      <Tried edits={draft.edits} version={version} done={done} />
    </>
  );
}

/** Makes a new rule; a folder follows it when it is told to. */
export function AddRule(props: { destinations: string[]; version: number }) {
  const [open, setOpen] = useState(false);
  if (open) return <NewRule {...props} done={() => setOpen(false)} />;
  return (
    <div className="mt-3">
      <Button onClick={() => setOpen(true)}>Add a rule</Button>
    </div>
  );
}

function NewRule(props: { destinations: string[]; version: number; done: () => void }) {
  const [name, setName] = useState("");
  const [first] = useState<Values>({
    take: ["photo", "raw", "video"],
    to: props.destinations,
    lanes: [{ over: "wifi" }],
  });
  const draft = useDraft(first, []);
  return (
    <FormBox label="Add a rule">
      <TextField label="Name" hint="films" value={name} change={setName} />
      <RuleForm draft={draft} parts={all} />
      <Tried
        edits={[{ path: ["rules", name], value: draft.whole, new: true }]}
        version={props.version}
        ready={name !== ""}
        done={props.done}
      />
    </FormBox>
  );
}
