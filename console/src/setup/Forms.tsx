import { useMutation } from "@tanstack/react-query";
import { Image } from "lucide-react";
import { useState } from "react";
import { api, body, type SetupNow, type SetupRoom } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Both } from "../queue/Compared";
import { useChange } from "./queries";

/** In which form pictures and clips go to each place: as shot or smaller, in figures against the room there. */
export function Forms({ now }: { now: SetupNow }) {
  if (now.rooms.length === 0 || now.takes.n === 0) return null;
  const smaller = now.rooms.every((r) => r.forms.some((f) => f.chosen && f.form !== ""));
  return (
    <div className="space-y-3">
      <h2 className="text-lg font-semibold">In which form?</h2>
      {now.rooms.map((room) => (
        <Place key={room.name} room={room} />
      ))}
      {smaller && (
        <p className="rounded-md bg-lamp p-3" role="status">
          No place gets your pictures as they were shot: what is made smaller cannot be made large again.
        </p>
      )}
      <See now={now} />
    </div>
  );
}

function Place({ room }: { room: SetupRoom }) {
  const change = useChange();
  return (
    <fieldset className="rounded-md border border-line p-3">
      <legend className="px-1 font-semibold">{room.name}</legend>
      <ul>
        {room.forms.map((f) => (
          <Way
            key={f.form}
            group={`form ${room.name}`}
            way={f}
            look={f.fits || !f.known ? "" : "text-stuck"}
            choose={() => change.mutate({ form: { place: room.name, form: f.form } })}
          />
        ))}
      </ul>
      {room.clips.length > 0 && (
        <ul className="mt-2 border-t border-line pt-2" aria-label={`Clips at ${room.name}`}>
          {room.clips.map((c) => (
            <Way
              key={c.height}
              group={`clips ${room.name}`}
              way={c}
              choose={() => change.mutate({ form: { place: room.name, clips: c.height as 0 | 1080 | 720 } })}
            />
          ))}
        </ul>
      )}
      <Failure error={change.error} />
    </fieldset>
  );
}

/** One of the forms that may be chosen. */
function Way(props: {
  group: string;
  way: { chosen: boolean; says: string };
  look?: string;
  choose: () => void;
}) {
  return (
    <li className="py-1">
      <label className="flex items-baseline gap-3">
        <input
          type="radio"
          name={props.group}
          checked={props.way.chosen}
          onChange={props.choose}
          className="size-4 shrink-0 translate-y-0.5 accent-tide"
        />
        <span className={props.look}>{props.way.says}</span>
      </label>
    </li>
  );
}

/** A picture of the keeper's own, both ways. */
function See({ now }: { now: SetupNow }) {
  const edges = [...new Set(now.rooms.flatMap((r) => r.forms.map((f) => f.longEdge)))].filter((e) => e > 0);
  const [edge, setEdge] = useState<number>();
  const from = now.folders.find((f) => f.on && f.job !== "" && f.pictures.length > 0);
  const compare = useMutation({
    mutationFn: (longEdge: number) =>
      body(
        api.POST("/api/v1/jobs/{id}/pictures/{n}/compare", {
          params: { path: { id: from?.job ?? "", n: 0 } },
          body: { form: { "long-edge": longEdge } },
        }),
      ),
  });
  if (!from || edges.length === 0) return null;
  const show = (longEdge: number) => {
    setEdge(longEdge);
    compare.mutate(longEdge);
  };
  return (
    <div className="space-y-3">
      <p className="flex flex-wrap items-center gap-2">
        <Image aria-hidden className="size-5 text-quiet" />
        See one of yours
        {edges.map((e) => (
          <Button
            key={e}
            onClick={() => show(e)}
            aria-pressed={edge === e}
            disabled={compare.isPending}
            aria-label={`See one of yours at ${e} px`}
          >
            at {e} px
          </Button>
        ))}
        {compare.isPending && <span role="status">It is being made…</span>}
      </p>
      <Failure error={compare.error} />
      {compare.data && <Both compared={compare.data} />}
    </div>
  );
}
