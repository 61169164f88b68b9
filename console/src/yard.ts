import { type QueryClient, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, body, type Job, type Yard } from "./api";

/** How the connection to the service stands. */
export type Link = { state: "connecting" | "live" | "lost" | "signed out"; since: Date };

const key = ["yard"];

/** The yard's status, kept up to date by the event stream (see useStream). */
export function useYard() {
  return useQuery({
    queryKey: key,
    queryFn: () => body(api.GET("/api/v1/status")) as Promise<Yard>,
    staleTime: Infinity,
  });
}

/** How far a job is that was begun here: as the stream tells, or as it was when it began. */
export function useJob(begun: Job | undefined): Job | undefined {
  const yard = useYard();
  return yard.data?.jobs.find((j) => j.id === begun?.id) ?? begun;
}

/**
 * How long to wait, in milliseconds, before lists are asked for anew: a second
 * for each page that is shown, so that a list that was scrolled far costs no
 * more than one at its top.
 */
export function pace(lists: [unknown, { pages?: unknown[] } | undefined][]): number {
  const pages = lists.reduce((sum, [, list]) => sum + (list?.pages?.length ?? 0), 0);
  return 1000 * Math.max(1, pages);
}

/** What the service tells of by events and the status does not hold. */
const told = ["setup", "look", "home-network", "room"];

/** Asks anew for what an event may have changed, if it is shown. A change that is on its way asks when it is taken. */
function askAnew(client: QueryClient) {
  return client.invalidateQueries({
    predicate: ({ queryKey: [what] }) =>
      told.includes(String(what)) && client.isMutating({ mutationKey: [what] }) === 0,
  });
}

/** Asks anew for the days that are shown of devices; one that was let go has none. */
function askDaysAnew(client: QueryClient) {
  const devices = client.getQueryData<Yard>(key)?.devices ?? [];
  return client.invalidateQueries({
    predicate: ({ queryKey: [what, device] }) => what === "day" && devices.some((d) => d.name === device),
  });
}

/**
 * Follows the event stream: each event replaces the status, and makes lists
 * be asked for anew when counts changed, at the pace that their length allows.
 */
export function useStream(): Link {
  const client = useQueryClient();
  const [link, setLink] = useState<Link>({ state: "connecting", since: new Date() });
  useEffect(() => {
    let stream: EventSource | undefined;
    let retry: ReturnType<typeof setTimeout> | undefined;
    let refresh: ReturnType<typeof setTimeout> | undefined;
    let seen = "";
    let sensed = "";
    let latest = "";
    const turn = (state: Link["state"]) =>
      setLink((l) => (l.state === state ? l : { state, since: new Date() }));
    const connect = () => {
      stream = new EventSource("/api/v1/events");
      stream.addEventListener("status", (e: MessageEvent<string>) => {
        const yard = JSON.parse(e.data) as Yard;
        turn("live");
        // Another page or a command may have changed the plan.
        if (client.getQueryData<Yard>(key)?.plan !== yard.plan)
          void client.invalidateQueries({ queryKey: ["plan"] });
        client.setQueryData(key, yard);
        void askAnew(client);
        const conditions = JSON.stringify(yard.devices.map((d) => d.conditions));
        if (conditions !== sensed) {
          sensed = conditions;
          void askDaysAnew(client);
          void client.invalidateQueries({ queryKey: ["phones"] });
        }
        const counts = JSON.stringify(yard.devices.map((d) => [d.states, d.partly, d.holds, d.pause]));
        latest = counts;
        if (counts !== seen && !refresh) {
          refresh = setTimeout(
            () => {
              refresh = undefined;
              seen = latest;
              void client.invalidateQueries({ queryKey: ["items"] });
              void client.invalidateQueries({ queryKey: ["story"] });
              void askDaysAnew(client);
            },
            pace(client.getQueriesData<{ pages?: unknown[] }>({ queryKey: ["items"] })),
          );
        }
      });
      stream.onerror = () => {
        stream?.close();
        // The stream does not say why it failed; a plain call does.
        void fetch("/api/v1/status").then(
          (r) => turn(r.status === 401 ? "signed out" : "lost"),
          () => turn("lost"),
        );
        retry = setTimeout(connect, 1500);
      };
    };
    connect();
    return () => {
      stream?.close();
      clearTimeout(retry);
      clearTimeout(refresh);
    };
  }, [client]);
  return link;
}
