import { lazy, Suspense, useRef, useState } from "react";
import type { Plan } from "../api";
import { Button } from "../parts/Button";
import { Figures } from "./Figures";
import { Mistakes } from "./Mistakes";
import { useApply, useTry } from "./queries";

const Completion = lazy(() => import("./Completion")); // with the schema, only where it is used

/**
 * The plan as text, to be changed: what a change would do is told before it counts. What is being
 * written stays when another changes the plan meanwhile, and when it is refused.
 */
export function PlanText({ plan }: { plan: Plan }) {
  const [draft, setDraft] = useState<{ text: string; base: number }>();
  const tried = useTry();
  const apply = useApply();
  const text = draft?.text ?? plan.text;
  const changed = draft !== undefined && draft.text !== plan.text;
  const stale = changed && draft.base !== plan.version;
  const area = useRef<HTMLTextAreaElement>(null);
  const goTo = (line: number) => {
    const from =
      text
        .split("\n")
        .slice(0, line - 1)
        .join("\n").length + (line > 1 ? 1 : 0);
    const end = text.indexOf("\n", from);
    const to = end < 0 ? text.length : end;
    area.current?.focus();
    area.current?.setSelectionRange(from, to);
    // A textarea does not scroll to what is selected by itself.
    if (area.current) area.current.scrollTop = (line - 3) * 20;
  };
  const [caret, setCaret] = useState<number>();
  const write = (written: string) => {
    forget();
    setDraft({ text: written, base: draft?.base ?? plan.version });
  };
  const forget = () => {
    tried.reset();
    apply.reset();
  };
  return (
    <section aria-labelledby="text" className="rounded-lg border border-line bg-plank p-5">
      <h2 id="text" className="mb-2 text-lg font-semibold">
        As text <span className="text-base font-normal text-quiet">version {plan.version}</span>
      </h2>
      <textarea
        ref={area}
        aria-label="The plan as text"
        spellCheck={false}
        rows={Math.min(24, text.split("\n").length + 1)}
        value={text}
        onChange={(e) => write(e.target.value)}
        onSelect={(e) => setCaret(e.currentTarget.selectionStart)}
        onKeyUp={(e) => setCaret(e.currentTarget.selectionStart)}
        className="w-full rounded-md border border-line bg-paper px-3 py-2 font-mono text-sm whitespace-pre"
      />
      {caret !== undefined && (
        <Suspense>
          <Completion
            text={text}
            caret={Math.min(caret, text.length)}
            put={(written, to) => {
              write(written);
              setCaret(to);
              // The caret goes behind what was put, once it is there.
              requestAnimationFrame(() => {
                area.current?.focus();
                area.current?.setSelectionRange(to, to);
              });
            }}
          />
        </Suspense>
      )}
      <div className="mt-3 flex flex-wrap gap-2">
        <Button disabled={!changed || tried.isPending} onClick={() => tried.mutate(text)}>
          See what it would change
        </Button>
        <Button
          strong={tried.data !== undefined}
          disabled={!changed || tried.data === undefined || apply.isPending}
          onClick={() =>
            apply.mutate(
              { text, base: draft?.base ?? plan.version },
              {
                onSuccess: () => {
                  setDraft(undefined);
                  tried.reset();
                },
              },
            )
          }
        >
          Put it in force
        </Button>
        <Button
          disabled={!changed}
          onClick={() => {
            forget();
            setDraft(undefined);
          }}
        >
          Drop the change
        </Button>
      </div>
      <div className="mt-3 space-y-3" aria-live="polite">
        {stale && (
          <p className="rounded-md bg-lamp p-3">
            The plan was changed meanwhile: version {plan.version} is in force, and this was made of version{" "}
            {draft.base}. Look at its history below; keep what you wrote, drop the change, and make it again.
          </p>
        )}
        <Mistakes error={tried.error ?? apply.error} text={text} goTo={goTo} />
        {tried.data && (
          <div className="rounded-md bg-wash p-3">
            <ul className="list-disc space-y-1 pl-5">
              {[...tried.data.says, ...tried.data.notes].map((s) => (
                <li key={s}>{s}</li>
              ))}
            </ul>
            {tried.data.text && (
              <details className="mt-2">
                <summary className="cursor-pointer">In the text</summary>
                <pre className="mt-1 rounded-md bg-paper p-3 font-mono text-sm wrap-anywhere whitespace-pre-wrap">
                  {tried.data.text}
                </pre>
              </details>
            )}
            <Figures tried={tried.data} />
          </div>
        )}
        {apply.data && <p>Version {apply.data.version} is in force.</p>}
      </div>
    </section>
  );
}
