import { getRouteApi } from "@tanstack/react-router";
import { Loading, Notice } from "../parts/Notice";
import { CopyList } from "./CopyList";
import { CopyStory } from "./CopyStory";
import { Filters } from "./Filters";
import { useCopies } from "./queries";
import type { QueueSearch } from "./search";

const route = getRouteApi("/queue");

/** Every copy, newest first, under filters; one opened to its story. */
export function QueuePage() {
  const search = route.useSearch();
  const navigate = route.useNavigate();
  const go = (change: QueueSearch) => void navigate({ search: (s) => ({ ...s, ...change }), replace: true });
  const copies = useCopies(search);
  const [device, id] = split(search.copy);
  return (
    <div className="flex flex-col gap-4">
      <h1 className="text-2xl font-semibold">Queue</h1>
      <Filters search={search} go={go} />
      {copies.isPending ? (
        <Loading what="the queue" />
      ) : copies.isError ? (
        <Notice title="The queue cannot be shown" tone="alarm">
          <p>{copies.error.message}</p>
        </Notice>
      ) : (
        <CopyList
          pages={copies}
          open={(c) => go({ copy: `${c.device}/${c.id}` })}
          clear={() => void navigate({ search: {} })}
        />
      )}
      {device && <CopyStory device={device} id={id} close={() => go({ copy: undefined })} />}
    </div>
  );
}

function split(copy?: string): [string | undefined, number] {
  const at = copy?.lastIndexOf("/") ?? -1;
  const id = Number(copy?.slice(at + 1));
  if (!copy || at < 1 || !Number.isSafeInteger(id)) return [undefined, 0];
  return [copy.slice(0, at), id];
}
