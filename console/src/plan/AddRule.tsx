import { useState } from "react";
import { Button } from "../parts/Button";
import { TextField } from "../parts/Field";
import { useDraft } from "./draft";
import { FormBox } from "./FormBox";
import { useKeysOf, type Values } from "./keys";
import { KeyField } from "./KeyField";
import { Places } from "./Places";
import { Tried } from "./Tried";

/** Makes a new rule: its name, what it takes and where that goes. The rest is said in its sentence. */
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
  const take = useKeysOf("rules").find((k) => k.name === "take");
  return (
    <FormBox label="Add a rule">
      <TextField label="Name" hint="films" value={name} change={setName} />
      {take && <KeyField of={take} value={draft.at("take")} change={(v) => draft.set(v, "take")} />}
      <Places draft={draft} />
      <p className="text-sm text-quiet">It goes over Wi-Fi or cable; say more in its sentence afterwards.</p>
      <Tried
        edits={[{ path: ["rules", name], value: draft.whole, new: true }]}
        version={props.version}
        ready={name !== ""}
        done={props.done}
      />
    </FormBox>
  );
}
