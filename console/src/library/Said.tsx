import { useMutation, useQueryClient } from "@tanstack/react-query";
import { EyeOff, Star, X } from "lucide-react";
import { useState } from "react";
import { api, body, type SayAsked, type Story } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { TextField } from "../parts/Field";

/** Changes what the keeper said of items. */
export function useSay() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (asked: SayAsked) => body(api.POST("/api/v1/library/say", { body: asked })),
    onSuccess: () =>
      client.invalidateQueries({
        predicate: ({ queryKey: [what] }) => ["library", "library items", "story"].includes(String(what)),
      }),
  });
}

/** What the keeper said of one item: marked, hidden, a note, the sets that it is in. */
export function Said({ story }: { story: Story }) {
  const { device, key, keeper } = story.item;
  const say = useSay();
  const of = (change: SayAsked) => say.mutate({ items: [{ device, key }], ...change });
  const [note, setNote] = useState(keeper.note ?? "");
  const [set, setSet] = useState("");
  return (
    <section aria-label="What you say of it" className="space-y-3">
      <h3 className="font-semibold">What you say of it</h3>
      <div className="flex flex-wrap gap-2">
        <Button
          aria-pressed={keeper.marked ?? false}
          disabled={say.isPending}
          onClick={() => of({ marked: !keeper.marked })}
        >
          <Star aria-hidden className={`size-4 ${keeper.marked ? "fill-current" : ""}`} />
          {keeper.marked ? "Marked" : "Mark"}
        </Button>
        <Button
          aria-pressed={keeper.hidden ?? false}
          disabled={say.isPending}
          onClick={() => of({ hidden: !keeper.hidden })}
        >
          <EyeOff aria-hidden className="size-4" />
          {keeper.hidden ? "Hidden" : "Hide"}
        </Button>
      </div>
      <form
        className="flex items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          of({ note });
        }}
      >
        <div className="min-w-0 grow">
          <TextField label="Note" value={note} change={setNote} />
        </div>
        <Button type="submit" disabled={note === (keeper.note ?? "") || say.isPending}>
          Note it
        </Button>
      </form>
      {keeper.sets && (
        <ul className="flex flex-wrap gap-2">
          {keeper.sets.map((s) => (
            <li key={s}>
              <Button onClick={() => of({ take: s })} aria-label={`${s}: take it out of this set`}>
                {s}
                <X aria-hidden className="size-4" />
              </Button>
            </li>
          ))}
        </ul>
      )}
      <PutIntoSet set={set} setSet={setSet} put={(name) => of({ put: name })} pending={say.isPending} />
      <Failure error={say.error} />
    </section>
  );
}

/** Asks for the name of a set. */
export function PutIntoSet(props: {
  set: string;
  setSet: (set: string) => void;
  put: (name: string) => void;
  pending: boolean;
}) {
  const { set, setSet } = props;
  return (
    <form
      className="flex items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        props.put(set.trim());
        setSet("");
      }}
    >
      <div className="min-w-0 grow">
        <TextField label="A set" hint="Launch day" value={set} change={setSet} />
      </div>
      <Button type="submit" disabled={set.trim() === "" || props.pending}>
        Put into it
      </Button>
    </form>
  );
}

/** Says the same of some items. */
export function SayOfSome({ items }: { items: NonNullable<SayAsked["items"]> }) {
  const say = useSay();
  const [set, setSet] = useState("");
  const of = (change: SayAsked) => say.mutate({ items, ...change });
  return (
    <div className="flex w-full flex-wrap items-end gap-2 rounded-md bg-wash p-3">
      <Button disabled={say.isPending} onClick={() => of({ marked: true })}>
        Marked
      </Button>
      <Button disabled={say.isPending} onClick={() => of({ marked: false })}>
        Not marked
      </Button>
      <Button disabled={say.isPending} onClick={() => of({ hidden: true })}>
        Hidden
      </Button>
      <Button disabled={say.isPending} onClick={() => of({ hidden: false })}>
        Shown
      </Button>
      <PutIntoSet set={set} setSet={setSet} put={(name) => of({ put: name })} pending={say.isPending} />
      <span role="status">{say.data && `Said of ${say.data.n}.`}</span>
      <Failure error={say.error} />
    </div>
  );
}
