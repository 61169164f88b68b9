import { Pause, Play } from "lucide-react";
import { lazy, Suspense } from "react";
import type { Device } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { usePause, useResume } from "../parts/actions";
import { when } from "../words";

const PauseMenu = lazy(() => import("./PauseMenu")); // after the first page is drawn

/** Pauses a device for a while, or resumes it. */
export function PauseButton({ device: d }: { device: Device }) {
  const pause = usePause(d.name);
  const resume = useResume(d.name);
  if (d.pause.on) {
    return (
      <div className="text-right">
        <Button onClick={() => resume.mutate()} disabled={resume.isPending}>
          <Play aria-hidden className="size-4" /> Resume
        </Button>
        <p className="mt-1 text-sm text-quiet">
          {d.pause.until ? `paused until ${when(d.pause.until)}` : "paused until you resume"}
        </p>
        <Failure error={resume.error} />
      </div>
    );
  }
  return (
    <div>
      <Suspense
        fallback={
          <Button disabled>
            <Pause aria-hidden className="size-4" /> Pause
          </Button>
        }
      >
        <PauseMenu name={d.name} pause={pause.mutate} />
      </Suspense>
      <Failure error={pause.error} />
    </div>
  );
}
