import type { RoomFile } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Loading } from "../parts/Notice";
import { and, bytes, when } from "../words";
import { useTakeBack, useWent } from "./queries";

/** Files that went from a device, each with its proofs; those in the holding place can be taken back. */
export function Went({ device, held }: { device: string; held: boolean }) {
  const went = useWent(device, held);
  const back = useTakeBack(device);
  if (went.isPending) return <Loading what="what went" />;
  return (
    <div className="space-y-2">
      <Failure error={went.error ?? back.error} />
      <ul className="divide-y divide-line" aria-label={`What went from ${device}`}>
        {went.data?.files.map((f) => (
          <li key={f.id} className="flex items-start justify-between gap-3 py-2">
            <div className="min-w-0 text-sm">
              <p className="wrap-anywhere">{f.path}</p>
              <p className="text-quiet">
                {bytes(f.bytes)}, {how(f)}
              </p>
              <p className="wrap-anywhere text-quiet">
                Proven at{" "}
                {and(f.proofs.map((p) => p.destination + (p.asShot ? " as shot" : " in a smaller form")))}
                {f.proofs[0] && `, ${when(f.proofs[0].at)}`}.
              </p>
              {f.says && <p className="text-quiet">{f.says}</p>}
            </div>
            {f.state === "held" && (
              <Button
                onClick={() => back.mutate([f.key])}
                disabled={back.isPending}
                aria-label={`Take back ${f.path}`}
                className="shrink-0"
              >
                Take back
              </Button>
            )}
          </li>
        ))}
      </ul>
      {went.data && went.data.below > 0 && (
        <p className="text-sm text-quiet">yardtide room ledger {device} lists all of it.</p>
      )}
    </div>
  );
}

function how(f: RoomFile): string {
  if (f.state === "back") return `back since ${when(f.back ?? "")}`;
  if (f.state !== "removed") return `in the holding place until ${when(f.until)}`;
  const removed = `removed ${when(f.removed ?? "")}`;
  return f.back ? `${removed}, brought back ${when(f.back)}` : removed;
}
