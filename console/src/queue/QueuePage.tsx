import { getRouteApi } from "@tanstack/react-router";
import { Loading, Notice } from "../parts/Notice";
import { Filters } from "./Filters";
import { ItemList } from "./ItemList";
import { ItemStory } from "./ItemStory";
import { useItems } from "./queries";
import { opened, type QueueSearch } from "./search";

const route = getRouteApi("/queue");

/** Every picture and clip, newest first, under filters; one opened to its story. */
export function QueuePage() {
  const search = route.useSearch();
  const navigate = route.useNavigate();
  const go = (change: QueueSearch) => void navigate({ search: (s) => ({ ...s, ...change }), replace: true });
  const items = useItems(search);
  const open = opened(search.item);
  return (
    <div className="flex flex-col gap-4">
      <h1 className="text-2xl font-semibold">Queue</h1>
      <Filters search={search} go={go} />
      {items.isPending ? (
        <Loading what="the queue" />
      ) : items.isError ? (
        <Notice title="The queue cannot be shown" tone="alarm">
          <p>{items.error.message}</p>
        </Notice>
      ) : (
        <ItemList
          pages={items}
          open={(i) => go({ item: `${i.device}/${i.key}` })}
          clear={() => void navigate({ search: {} })}
        />
      )}
      {open && <ItemStory device={open.device} name={open.key} close={() => go({ item: undefined })} />}
    </div>
  );
}
