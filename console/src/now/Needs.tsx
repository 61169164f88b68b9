import { Link } from "@tanstack/react-router";
import { CircleAlert } from "lucide-react";
import type { Need } from "../api";
import { Button, buttonLook } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { useRetry } from "../parts/actions";

/** What does not mend itself, each once, with the button that mends it. */
export function Needs({ needs, className }: { needs: Need[]; className: string }) {
  if (needs.length === 0) return null;
  return (
    <section aria-labelledby="needs" className={`${className} bg-alarm!`}>
      <h2 id="needs" className="mb-1 font-semibold">
        Needs you
      </h2>
      <ul className="divide-y divide-line">
        {needs.map((n) => (
          <li
            key={n.device + n.destination + n.says}
            className="flex flex-wrap items-start gap-x-3 gap-y-1 py-1"
          >
            <CircleAlert aria-hidden className="mt-0.5 size-5 shrink-0 text-stuck" />
            <p className="min-w-0 flex-1 basis-60 wrap-anywhere">
              {n.says} {n.todo && <span className="font-semibold">{n.todo}</span>}
            </p>
            <Mend need={n} />
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The button that mends a need, none where that is done elsewhere. */
function Mend({ need: n }: { need: Need }) {
  const retry = useRetry();
  if (n.mends === "plan") {
    return (
      <Link to="/setup" className={buttonLook}>
        Say where your pictures go
      </Link>
    );
  }
  if (n.mends === "answer") {
    return (
      <Link to="/destinations" className={buttonLook}>
        Say which place it is
      </Link>
    );
  }
  if (n.mends !== "retry") return null;
  return (
    <span className="flex flex-wrap gap-2">
      {n.device && (
        <Link to="/queue" search={{ device: n.device, state: "stuck" }} className={buttonLook}>
          See them
        </Link>
      )}
      <Button
        onClick={() => retry.mutate(n.device ? { device: n.device } : {})}
        disabled={retry.isPending}
        aria-label={n.device ? `Retry what is stuck on ${n.device}` : `Try ${n.destination} again`}
      >
        {n.device ? "Retry all" : "Try again"}
      </Button>
      <Failure error={retry.error} />
    </span>
  );
}
