import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react";
import type { PlanVersion } from "../api";
import { Button, buttonLook } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { when } from "../words";
import { useDiff, useHistory, useUndo } from "./queries";

const ways = {
  console: "on this page",
  command: "by a command",
  form: "by a form",
  undo: "an earlier one again",
  link: "from the service of the yard",
  unknown: "",
};

/** The plan's versions, the newest first: what each changed, and back to it. */
export function History({ now }: { now: number }) {
  const history = useHistory(now);
  const undo = useUndo();
  return (
    <section aria-labelledby="history" className="rounded-lg border border-line bg-plank p-5">
      <h2 id="history" className="mb-2 text-lg font-semibold">
        How it came to be so
      </h2>
      <Failure error={history.error ?? undo.error} />
      <ol className="divide-y divide-line">
        {history.data?.pages.flat().map((v) => (
          <Version
            key={v.version}
            version={v}
            back={() => undo.mutate({ to: v.version, base: now })}
            busy={undo.isPending}
          />
        ))}
      </ol>
      {history.hasNextPage && (
        <Button onClick={() => void history.fetchNextPage()} disabled={history.isFetchingNextPage}>
          Earlier ones
        </Button>
      )}
    </section>
  );
}

function Version({ version: v, back, busy }: { version: PlanVersion; back: () => void; busy: boolean }) {
  return (
    <li className="py-3">
      <p className="text-sm text-quiet">
        <span className="font-semibold text-ink">{v.version}</span>, {when(v.at)}
        {ways[v.by] && `, ${ways[v.by]}`}
        {v.inForce && <strong className="text-safe"> in force</strong>}
      </p>
      <ul className="wrap-anywhere">
        {v.says.map((s) => (
          <li key={s}>{s}</li>
        ))}
      </ul>
      <Disclosure>
        {({ open }) => (
          <>
            <div className="mt-2 flex flex-wrap gap-2">
              <DisclosureButton
                className={buttonLook}
                aria-label={`${open ? "Hide" : "Show"} the text that version ${v.version} changed`}
              >
                {open ? "Hide the text" : "Show the text"}
              </DisclosureButton>
              {!v.inForce && (
                <Button onClick={back} disabled={busy} aria-label={`Put version ${v.version} in force again`}>
                  Put version {v.version} in force again
                </Button>
              )}
            </div>
            <DisclosurePanel>
              <Diff to={v.version} />
            </DisclosurePanel>
          </>
        )}
      </Disclosure>
    </li>
  );
}

function Diff({ to }: { to: number }) {
  const diff = useDiff(to, true);
  const lines = (diff.data?.text ?? "").split("\n").slice(2);
  return (
    <div className="mt-2">
      <Failure error={diff.error} />
      <pre className="rounded-md bg-paper p-3 font-mono text-sm wrap-anywhere whitespace-pre-wrap">
        {lines.map((line, i) => (
          <span
            key={i}
            className={`block ${line.startsWith("+") ? "text-safe" : line.startsWith("-") ? "text-stuck" : "text-quiet"}`}
          >
            {line || " "}
          </span>
        ))}
      </pre>
    </div>
  );
}
