import { Link } from "@tanstack/react-router";
import { Check } from "lucide-react";
import { useEffect, useRef } from "react";
import type { SetupNow } from "../api";
import { Button, buttonLook } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Loading, Notice } from "../parts/Notice";
import { How } from "./How";
import { Names } from "./Names";
import { SaidBack } from "./SaidBack";
import { What } from "./What";
import { When } from "./When";
import { Where } from "./Where";
import { Whose } from "./Whose";
import { useChange, useSetup } from "./queries";

const steps = [
  { title: "Whose", asks: "Whose pictures?", of: Whose },
  { title: "Where to", asks: "Where shall your pictures go?", of: Where },
  { title: "What", asks: "Which folders?", of: What },
  { title: "How", asks: "Which kinds of files?", of: How },
  { title: "When", asks: "Over which network, and when?", of: When },
  { title: "Names", asks: "What shall they be called there?", of: Names },
  { title: "Start", asks: "Is this what you want?", of: SaidBack },
] as const;

/** The first hour: one step a screen, back and forth, kept by the service. */
export function SetupPage() {
  const setup = useSetup();
  if (setup.isPending) return <Loading what="the set-up" />;
  // What is known of it stays while the service does not answer.
  if (setup.isError && !setup.data) {
    return (
      <Notice title="The set-up cannot be shown" tone="alarm">
        <p>{setup.error.message}</p>
      </Notice>
    );
  }
  if (setup.data.inForce) return <SetUp />;
  return <Steps now={setup.data} />;
}

/** What is left of it when there is a plan. */
function SetUp() {
  return (
    <Notice title="It is set up">
      <p>A plan is in force. Each part of it is changed in its place:</p>
      <p className="flex flex-wrap gap-2">
        <Link to="/destinations" className={buttonLook}>
          Where to
        </Link>
        <Link to="/plan" className={buttonLook}>
          What, how and when
        </Link>
        <Link to="/" className={buttonLook}>
          How it stands now
        </Link>
      </p>
    </Notice>
  );
}

function Steps({ now }: { now: SetupNow }) {
  const change = useChange();
  const heading = useRef<HTMLHeadingElement>(null);
  const shown = useRef(now.step);
  const step = steps[now.step - 1] ?? steps[0];
  useEffect(() => {
    // Who works by keyboard or by ear goes on where the new step begins.
    if (shown.current !== now.step) heading.current?.focus();
    shown.current = now.step;
  }, [now.step]);
  const go = (to: number) => change.mutate({ step: to });
  const lacks = (n: number) => now.missing.some((m) => m.step === n);
  return (
    <div className="mx-auto max-w-3xl space-y-5">
      <nav aria-label="Steps">
        <ol className="flex flex-wrap gap-x-1 gap-y-2">
          {steps.map((s, i) => (
            <li key={s.title}>
              <button
                type="button"
                aria-current={now.step === i + 1 ? "step" : undefined}
                onClick={() => go(i + 1)}
                className="inline-flex min-h-9 items-center gap-1.5 rounded-full px-3 py-1 text-sm text-quiet hover:text-ink aria-[current=step]:bg-wash aria-[current=step]:font-semibold aria-[current=step]:text-ink"
              >
                {i + 1 < now.step && !lacks(i + 1) ? (
                  <Check aria-label="done" role="img" className="size-4 text-safe" />
                ) : (
                  <span aria-hidden>{i + 1}</span>
                )}
                {s.title}
              </button>
            </li>
          ))}
        </ol>
      </nav>
      <section aria-labelledby="step" className="space-y-4 rounded-lg border border-line bg-plank p-5">
        <h1 id="step" ref={heading} tabIndex={-1} className="text-2xl font-semibold outline-none">
          {now.step === 3 && now.whose !== "elsewhere" && now.devices.length < 2
            ? "Which folders of this computer?"
            : step.asks}
        </h1>
        <step.of now={now} />
      </section>
      <Failure error={change.error} />
      <div className="flex justify-between gap-3">
        <Button onClick={() => go(now.step - 1)} disabled={now.step === 1 || change.isPending}>
          Back
        </Button>
        {now.step < steps.length && (
          <Button
            strong={now.step !== 2 || now.places.length > 0}
            onClick={() => go(now.step + 1)}
            disabled={change.isPending || (now.step === 1 && now.whose === "")}
          >
            {now.step === 2 && now.places.length === 0 ? "Later" : "Next"}
          </Button>
        )}
      </div>
    </div>
  );
}
