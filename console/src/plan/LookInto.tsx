import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, body, type Look } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { FolderFigures } from "../parts/FolderFigures";
import { bytes, count } from "../words";
import { useYard } from "../yard";
import { words, type Values } from "./keys";

const stop = (id: string) => body(api.DELETE("/api/v1/jobs/{id}", { params: { path: { id } } }));

/** Looks into a folder before it is chosen, and tells while it counts. */
export function LookInto(props: {
  device: string;
  folder: string;
  set: Values;
  pick?: (folder: string) => void;
  change?: (value: unknown, key: string) => void; // of the source
  atOnce?: boolean; // it begins by itself
}) {
  const { device, folder, set, pick, change, atOnce } = props;
  const begin = useMutation({
    mutationFn: () => body(api.POST("/api/v1/looks", { body: { device, folder, set } })),
  });
  const id = begin.data?.id;
  const job = useQuery({
    queryKey: ["look", id],
    enabled: id !== undefined,
    queryFn: () => body(api.GET("/api/v1/jobs/{id}", { params: { path: { id: id ?? "" } } })),
  });
  const { reset, mutate } = begin;
  useEffect(() => {
    reset(); // another folder was not looked into
    if (atOnce) mutate();
  }, [device, folder, atOnce, reset, mutate]);
  useEffect(() => {
    // Who turns away needs it no more.
    return () => void (id !== undefined && stop(id).catch(() => undefined));
  }, [id]);
  const look = job.data?.look;
  const running = job.data?.state === "running";
  return (
    <div className="space-y-3">
      <div className="flex flex-wrap items-center gap-3">
        <Button onClick={() => begin.mutate()} disabled={folder.trim() === "" || begin.isPending || running}>
          {look ? "Look again" : "Look into it"}
        </Button>
        <span role="status" className="min-w-0 wrap-anywhere text-quiet">
          {job.data && (job.data.state === "failed" || look) ? job.data.says : ""}
          {running && " Counting…"}
        </span>
      </div>
      <Failure error={begin.error ?? job.error} />
      {look && (
        <>
          <FolderFigures
            look={look}
            job={id ?? ""}
            pick={pick && ((child) => pick(`${folder.replace(/\/+$/, "")}/${child}`))}
            can={() => pick !== undefined}
            only={
              change && ((library) => change([...words(set, "originals-only"), library], "originals-only"))
            }
            leaveOut={change && ((below) => change([...words(set, "leave-out"), `/${below}/`], "leave-out"))}
          />
          <Beside look={look} />
        </>
      )}
    </div>
  );
}

/** What would be left out and by what, what cannot be read, and what room the rest takes. */
function Beside({ look: l }: { look: Look }) {
  const places = useYard().data?.destinations ?? [];
  return (
    <div className="space-y-3">
      {l.leftOut.length > 0 && (
        <ul aria-label="Left out" className="space-y-1">
          {l.leftOut.slice(0, 8).map((o) => (
            <li key={o.why}>
              {count(o.n, "file")}, {bytes(o.bytes)}: <span className="text-quiet">{o.why}</span>
            </li>
          ))}
        </ul>
      )}
      {l.unreadable > 0 && (
        <ul aria-label="Cannot be read" className="space-y-1 rounded-md bg-alarm p-2 wrap-anywhere">
          {l.unread.slice(0, 5).map((u) => (
            <li key={u.path}>
              {u.path}: {u.says}
            </li>
          ))}
          {l.unreadable > 5 && <li>and {count(l.unreadable - 5, "more", "more")}</li>}
        </ul>
      )}
      <ul aria-label="Room" className="space-y-1">
        {places.map((p) => {
          const safe = l.safeAt.find((s) => s.destination === p.name);
          const need = Math.max(0, l.takes.bytes - (safe?.bytes ?? 0));
          const room = p.space.free - p.keepFree;
          const fits = p.space.free < 0 || need <= room;
          return (
            <li key={p.name} className={fits ? "" : "rounded-md bg-lamp p-2"}>
              {p.name}: {safe && `${count(safe.n, "file")} of it safe there already; `}
              {need === 0
                ? "nothing more to send"
                : `${bytes(need)} more ${fits ? "fit" : "do not fit"}${p.space.free >= 0 ? `, it has room for ${bytes(Math.max(0, room))}` : ""}`}
            </li>
          );
        })}
      </ul>
    </div>
  );
}
