import { useState } from "react";
import type { PlanDevice } from "../api";
import { Button } from "../parts/Button";
import { useDraft } from "./draft";
import { Fields } from "./Fields";
import { ChangedMeanwhile, FormBox } from "./FormBox";
import { useKeysOf, word, type Values } from "./keys";
import { Tried } from "./Tried";

type Of = { device: PlanDevice; values: Values; version: number };

/** A device of the plan: how fast it may send, whose it is, its time zone. */
export function DeviceOfPlan(props: Of) {
  const { device: d, values } = props;
  const [open, setOpen] = useState(false);
  const person = word(values, "person");
  return (
    <li className="py-2">
      <span className="mr-3 wrap-anywhere">
        <span className="font-semibold">{d.device}</span>{" "}
        <span className="text-quiet">
          {person && `${person}’s, `}
          {d.says}
        </span>
      </span>
      <Button onClick={() => setOpen(!open)} aria-expanded={open} aria-label={`Change ${d.device}`}>
        Change
      </Button>
      {open && <Change {...props} done={() => setOpen(false)} />}
    </li>
  );
}

function Change({ device: d, values, version, done }: Of & { done: () => void }) {
  const draft = useDraft(values, ["devices", d.device]);
  return (
    <FormBox label={`Change ${d.device}`}>
      <ChangedMeanwhile what={d.device} version={version} is={draft.changedMeanwhile} />
      <Fields keys={useKeysOf("devices")} draft={draft} />
      <Tried edits={draft.edits} version={version} done={done} />
    </FormBox>
  );
}
