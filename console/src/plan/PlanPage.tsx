import { Link } from "@tanstack/react-router";
import { Loading, Notice } from "../parts/Notice";
import { useYard } from "../yard";
import { AddRule } from "./AddRule";
import { DeviceOfPlan } from "./Devices";
import { History } from "./History";
import { at, useKeys, type Values } from "./keys";
import { PlanText } from "./PlanText";
import { AddRendition, RenditionOfPlan } from "./Renditions";
import { OtherDoubts, Rule } from "./Rule";
import { AddSource, Source } from "./Sources";
import { useHeld, usePlan } from "./queries";

/** What the household decided: its rules as sentences, the text, and how it came to be so. */
export function PlanPage() {
  const plan = usePlan();
  const keys = useKeys();
  const held = useHeld().data;
  const destinations = useYard().data?.destinations.map((d) => d.name) ?? [];
  if (plan.isPending || keys.isPending) return <Loading what="the plan" />;
  // What is known of it stays while the service does not answer.
  if (plan.isError && plan.data === undefined) {
    return (
      <Notice title="The plan cannot be shown" tone="alarm">
        <p>{plan.error.message}</p>
      </Notice>
    );
  }
  const p = plan.data;
  if (p === null) {
    return (
      <Notice title="There is no plan yet">
        <p>
          It is made step by step:{" "}
          <Link to="/setup" className="underline">
            set it up
          </Link>
          .
        </p>
      </Notice>
    );
  }
  const of = (...path: string[]) => (at(p.values, ...path) as Values | undefined) ?? {};
  return (
    <div className="space-y-6">
      <h1 className="text-2xl font-semibold">Plan</h1>
      <section aria-labelledby="rules" className="rounded-lg border border-line bg-plank p-5">
        <h2 id="rules" className="mb-2 text-lg font-semibold">
          What it says
        </h2>
        <dl className="divide-y divide-line">
          {p.rules.map((r) => (
            <Rule key={r.name} rule={r} plan={p} held={held?.rules.find((h) => h.rule === r.name)} />
          ))}
        </dl>
        <AddRule destinations={destinations} version={p.version} />
        <OtherDoubts plan={p} />
      </section>
      <section aria-labelledby="sources" className="rounded-lg border border-line bg-plank p-5">
        <h2 id="sources" className="mb-2 text-lg font-semibold">
          Folders
        </h2>
        <ul className="divide-y divide-line">
          {p.sources.map((s) => (
            <Source
              key={`${s.device}/${s.folder}`}
              source={s}
              plan={p}
              held={held?.folders.find((f) => f.device === s.device && f.folder === s.folder)}
            />
          ))}
        </ul>
        <AddSource plan={p} />
      </section>
      <section aria-labelledby="devices" className="rounded-lg border border-line bg-plank p-5">
        <h2 id="devices" className="mb-2 text-lg font-semibold">
          Devices
        </h2>
        <ul className="divide-y divide-line">
          {p.devices.map((d) => (
            <DeviceOfPlan key={d.device} device={d} values={of("devices", d.device)} version={p.version} />
          ))}
        </ul>
      </section>
      <section aria-labelledby="forms" className="rounded-lg border border-line bg-plank p-5">
        <h2 id="forms" className="mb-2 text-lg font-semibold">
          Forms
        </h2>
        <p className="text-quiet">In which rules may send, beside as shot.</p>
        <ul className="divide-y divide-line">
          {p.renditions.map((r) => (
            <RenditionOfPlan
              key={r.name}
              rendition={r}
              values={of("renditions", r.name)}
              version={p.version}
            />
          ))}
        </ul>
        <AddRendition version={p.version} />
      </section>
      <PlanText plan={p} />
      <History now={p.version} />
    </div>
  );
}
