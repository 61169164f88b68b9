import { useMutation } from "@tanstack/react-query";
import { getRouteApi } from "@tanstack/react-router";
import { useCallback, useState } from "react";
import { api, body, type BringAsked, type FoundItem } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { JobNote } from "../parts/JobNote";
import { Loading, Notice } from "../parts/Notice";
import { bytes, things } from "../words";
import { useYard } from "../yard";
import { BringBack } from "./BringBack";
import { Faces, keyOf } from "./Faces";
import { Filters } from "./Filters";
import { Looking } from "./Looking";
import { WhereTaken } from "./WhereTaken";
import { SayOfSome } from "./Said";
import { useFound } from "./queries";
import { query, type Question } from "./question";

const route = getRouteApi("/library");

/** All that the yard knows, at whichever place, by its faces; one looked at, some brought back. */
export function LibraryPage() {
  const q = route.useSearch();
  const navigate = route.useNavigate();
  const go = useCallback(
    (change: Question) => void navigate({ search: (s) => ({ ...s, ...change }), replace: true }),
    [navigate],
  );
  const found = useFound(q);
  const [choosing, setChoosing] = useState(false);
  const [mapped, setMapped] = useState(q.spot !== undefined);
  const [chosen, setChosen] = useState<ReadonlyMap<string, FoundItem>>(new Map());
  const choose = (it: FoundItem) => {
    const next = new Map(chosen);
    if (!next.delete(keyOf(it))) next.set(keyOf(it), it);
    setChosen(next);
  };
  const stop = () => {
    setChoosing(false);
    setChosen(new Map());
  };
  const jobs = useYard().data?.jobs.filter((j) => j.kind === "bring-back") ?? [];
  const job = jobs.find((j) => j.state === "running") ?? jobs[0];
  const f = found.data;
  return (
    <div className="flex flex-col gap-4">
      <h1 className="text-2xl font-semibold">Library</h1>
      <Filters q={q} found={f} go={go} />
      {job && <JobNote job={job} />}
      {found.isPending ? (
        <Loading what="the library" />
      ) : found.isError && !f ? (
        <Notice title="The library cannot be shown" tone="alarm">
          <p>{found.error.message}</p>
        </Notice>
      ) : (
        f && (
          <>
            {mapped && <WhereTaken q={q} placed={f.placed} go={(spot) => go({ spot })} />}
            {f.n === 0 ? (
              <div className="rounded-lg border border-line bg-plank p-8 text-center">
                <p className="mb-3">Nothing is like this.</p>
                <Button onClick={() => void navigate({ search: {} })}>Show all</Button>
              </div>
            ) : (
              <Faces
                q={q}
                found={f}
                open={(it) => go({ item: keyOf(it) })}
                chosen={new Set(chosen.keys())}
                choosing={choosing}
                choose={choose}
                head={
                  <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
                    <p className="text-sm text-quiet" role="status">
                      {things(
                        f.n,
                        f.kinds.map((k) => k.name),
                      )}
                      , {bytes(f.bytes)}
                      {f.n !== f.of && ` of ${f.of.toLocaleString("en-GB")} that are known`}
                    </p>
                    {(f.placed > 0 || mapped) && (
                      <Button aria-pressed={mapped} onClick={() => setMapped(!mapped)}>
                        Map
                      </Button>
                    )}
                    <Choosing
                      q={q}
                      n={f.n}
                      chosen={[...chosen.values()]}
                      choosing={choosing}
                      begin={() => setChoosing(true)}
                      stop={stop}
                    />
                  </div>
                }
              />
            )}
          </>
        )
      )}
      {q.item && <Looking at={q.item} close={() => go({ item: undefined })} />}
    </div>
  );
}

/** What can be done with some, or with all that was found. */
function Choosing(props: {
  q: Question;
  n: number;
  chosen: FoundItem[];
  choosing: boolean;
  begin: () => void;
  stop: () => void;
}) {
  const { chosen, choosing } = props;
  const [bring, setBring] = useState(false);
  const [saying, setSaying] = useState(false);
  const asked: BringAsked =
    chosen.length > 0
      ? { items: chosen.map((i) => ({ device: i.device, key: i.key })) }
      : { question: query(props.q) };
  const zip = useMutation({
    mutationFn: () => body(api.POST("/api/v1/library/zip", { body: asked })),
    onSuccess: (z) => location.assign(`/api/v1/library/zip/${z.id}`),
  });
  const n = chosen.length || props.n;
  const what =
    chosen.length > 0 ? `the ${n.toLocaleString("en-GB")} chosen` : `all ${n.toLocaleString("en-GB")}`;
  return (
    <div className="flex flex-wrap items-center gap-2">
      {choosing ? (
        <>
          <span role="status">{chosen.length === 0 ? "None chosen: all count" : `${n} chosen`}</span>
          <Button onClick={() => zip.mutate()} disabled={zip.isPending}>
            Download {what}
          </Button>
          <Button onClick={() => setBring(true)}>Bring back {what}</Button>
          {chosen.length > 0 && (
            <Button aria-expanded={saying} onClick={() => setSaying(!saying)}>
              Mark {what}
            </Button>
          )}
          <Button onClick={props.stop}>Done</Button>
        </>
      ) : (
        <Button onClick={props.begin}>Choose some</Button>
      )}
      <Failure error={zip.error} />
      {saying && chosen.length > 0 && (
        <SayOfSome items={chosen.map((i) => ({ device: i.device, key: i.key }))} />
      )}
      {bring && <BringBack asked={asked} close={() => setBring(false)} />}
    </div>
  );
}
