import { useState } from "react";
import type { Destination, Job, Share } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { JobNote } from "../parts/JobNote";
import { bytes } from "../words";
import { useYard } from "../yard";
import { Layout } from "./Layout";
import { useAdopt, usePlace, useProve, useRemove, useTest } from "./queries";
import { TrialSteps } from "./TrialSteps";

/** One destination: how full it is, who uses it, what is still to come, and what can be done with it. */
export function Berth({ destination: d }: { destination: Destination }) {
  const yard = useYard();
  const jobs = latest(yard.data?.jobs ?? [], d.name);
  const runs = (kind: Job["kind"]) => jobs.some((j) => j.kind === kind && j.state === "running");
  const test = useTest(d.name);
  const prove = useProve(d.name);
  const adopt = useAdopt(d.name);
  const remove = useRemove(d.name);
  const testing = runs("trial") ? "Testing…" : "Test";
  const adopting = runs("adoption") ? "Listing…" : "Adopt what is there";
  const [leaving, setLeaving] = useState(false);
  const failure = test.error ?? prove.error ?? adopt.error ?? remove.error;
  return (
    <section aria-labelledby={`at-${d.name}`} className="rounded-lg border border-line bg-plank p-5">
      <h2 id={`at-${d.name}`} className="text-lg font-semibold">
        {d.name}
      </h2>
      <p className="mb-4 text-sm break-all text-quiet">
        {d.kind}, {d.where}
      </p>
      <Gauge destination={d} />
      {d.problem && <PlaceProblem destination={d} />}
      {d.says && <p className="mt-3 rounded-md bg-alarm p-3">{d.says}</p>}
      <div className="mt-4 grid gap-x-8 gap-y-4 sm:grid-cols-2">
        <Shares title="There" none="Nothing yet." shares={d.there} />
        <Shares title="Still to come" none="Nothing waits." shares={d.coming} />
      </div>
      <Layout destination={d} />
      <div className="mt-4 flex flex-wrap gap-2">
        <Button onClick={() => test.mutate()} disabled={runs("trial")} aria-label={`${testing} ${d.name}`}>
          {testing}
        </Button>
        <Button
          onClick={() => prove.mutate()}
          disabled={runs("proofs")}
          aria-label={`Prove again at ${d.name}`}
        >
          Prove again
        </Button>
        <Button
          onClick={() => adopt.mutate()}
          disabled={runs("adoption")}
          aria-label={`${adopting} at ${d.name}`}
        >
          {adopting}
        </Button>
        <Button onClick={() => setLeaving(true)} aria-label={`Remove ${d.name}`}>
          Remove
        </Button>
      </div>
      {leaving && (
        <div
          role="group"
          aria-label={`Remove ${d.name} from the plan`}
          className="mt-3 rounded-md bg-lamp p-3"
        >
          <p className="mb-3">It leaves the plan; what is stored there stays.</p>
          <div className="flex gap-2">
            <Button
              strong
              onClick={() => {
                setLeaving(false);
                remove.mutate();
              }}
            >
              Take it out of the plan
            </Button>
            <Button onClick={() => setLeaving(false)}>Keep it</Button>
          </div>
        </div>
      )}
      <div className="mt-3 space-y-3" aria-live="polite">
        <Failure error={failure} />
        {jobs.map((j) => (
          <div key={j.id} className="space-y-3">
            <JobNote job={j} />
            {j.trial && <TrialSteps trial={j.trial} />}
          </div>
        ))}
      </div>
    </section>
  );
}

/** The latest job of each kind about a destination; those about all of them count too. */
function latest(jobs: Job[], name: string): Job[] {
  const mine = jobs.filter((j) => j.destination === name || (j.destination === "" && j.state === "running"));
  return mine.filter((j, i) => mine.findIndex((o) => o.kind === j.kind) === i);
}

/** Why nothing goes there, or what is there does not count; where another place answers, the keeper says which it is. */
function PlaceProblem({ destination: d }: { destination: Destination }) {
  const place = usePlace(d.name);
  return (
    <div role="group" aria-label={`What is wrong at ${d.name}`} className="mt-3 rounded-md bg-alarm p-3">
      <p className="mb-2 font-semibold wrap-anywhere">{d.problem}</p>
      {d.asks ? (
        <>
          <p className="mb-3">
            Is it the wrong disk or address? Put the right one there, and it goes on by itself. Else say what
            this place is:
          </p>
          <div className="flex flex-wrap gap-2">
            <Button onClick={() => place.mutate("moved")} disabled={place.isPending}>
              What was there was moved here
            </Button>
            <Button onClick={() => place.mutate("new")} disabled={place.isPending}>
              It is a new place
            </Button>
          </div>
          <p className="mt-2 text-sm">
            Moved: everything is proven again here, and what is missing is sent. New: everything is sent here;
            what is at the old place stays there.
          </p>
        </>
      ) : (
        <p>{d.todo}</p>
      )}
      <Failure error={place.error} />
    </div>
  );
}

/** How full a destination is, and how far what is still to come would fill it. */
function Gauge({ destination: d }: { destination: Destination }) {
  const { free, used } = d.space;
  if (free < 0) return <p>It does not tell its room. State it in the plan as size.</p>;
  const coming = d.coming.reduce((sum, s) => sum + s.bytes, 0);
  const taken = Math.max(0, used);
  const max = taken + free;
  const share = (n: number) => `${max > 0 ? Math.min(100, (100 * n) / max) : 0}%`;
  const fits = Math.min(coming, Math.max(0, free - d.keepFree));
  const text = `${bytes(taken)} used, ${bytes(free)} free${d.keepFree > 0 ? `, ${bytes(d.keepFree)} kept free` : ""}${coming > 0 ? `, ${bytes(coming)} to come` : ""}`;
  return (
    <div>
      <div
        role="img"
        aria-label={`Room at ${d.name}: ${text}`}
        className="flex h-4 w-full overflow-hidden rounded-full bg-wash"
      >
        <div className="moves h-full bg-tide" style={{ width: share(taken) }} />
        <div className="moves h-full bg-owed" style={{ width: share(fits) }} />
        <div className="ml-auto h-full bg-rest" style={{ width: share(Math.min(d.keepFree, free)) }} />
      </div>
      <ul className="mt-2 flex flex-wrap gap-x-5 gap-y-1 text-sm">
        <Key tone="bg-tide">{bytes(taken)} used</Key>
        {coming > 0 && <Key tone="bg-owed">{bytes(coming)} still to come</Key>}
        <Key tone="bg-wash">{bytes(free)} free</Key>
        {d.keepFree > 0 && <Key tone="bg-rest">{bytes(d.keepFree)} of it kept free</Key>}
      </ul>
    </div>
  );
}

function Key({ tone, children }: { tone: string; children: React.ReactNode }) {
  return (
    <li className="flex items-center gap-1.5">
      <span aria-hidden className={`size-3 rounded-sm border border-line ${tone}`} />
      {children}
    </li>
  );
}

function Shares({ title, none, shares }: { title: string; none: string; shares: Share[] }) {
  return (
    <div>
      <h3 className="mb-1 font-semibold">{title}</h3>
      {shares.length === 0 && <p className="text-quiet">{none}</p>}
      <ul className="space-y-1">
        {shares.map((s) => (
          <li key={`${s.device} ${s.rule} ${s.kind}`} className="flex justify-between gap-3">
            <span>
              {s.device}, {s.kind}s <span className="text-quiet">by {s.rule}</span>
            </span>
            <span className="shrink-0 text-quiet tabular-nums">
              {s.n > 0 ? `${s.n.toLocaleString("en-GB")}, ` : "beside, "}
              {bytes(s.bytes)}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}
