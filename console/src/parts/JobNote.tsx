import { useMutation } from "@tanstack/react-query";
import { api, body, type Job } from "../api";
import { when } from "../words";
import { Button } from "./Button";
import { Failure } from "./Failure";
import { Meter } from "./Meter";

const kinds = {
  trial: "Trial",
  adoption: "What was there",
  proofs: "Proofs taken again",
  look: "A look at a folder",
  "bring-back": "Brought back",
  room: "Room made",
};

/** How far a job is, with its stop while it runs, or what came of it. */
export function JobNote({ job: j }: { job: Job }) {
  const stop = useMutation({
    mutationFn: () => body(api.DELETE("/api/v1/jobs/{id}", { params: { path: { id: j.id } } })),
  });
  const running = j.state === "running";
  return (
    <div className={`rounded-md p-3 ${j.state === "failed" ? "bg-alarm" : "bg-wash"}`}>
      <div className="flex items-start justify-between gap-3">
        <p className="wrap-anywhere">
          <span className="text-sm text-quiet">
            {kinds[j.kind]}
            {!running && j.ended && `, ${when(j.ended)}`}
          </span>
          <span className="block">{j.says}</span>
        </p>
        {running && (
          <Button
            onClick={() => stop.mutate()}
            disabled={stop.isPending}
            aria-label={`Stop: ${kinds[j.kind].toLowerCase()}`}
          >
            Stop
          </Button>
        )}
      </div>
      {running && j.of > 0 && (
        <div className="mt-2">
          <Meter label={kinds[j.kind]} value={j.done} max={j.of} text={j.says} />
        </div>
      )}
      <Failure error={stop.error} />
    </div>
  );
}
