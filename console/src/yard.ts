import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, body, type Yard } from "./api";

/** How the connection to the service stands. */
export type Link = { state: "live" | "lost" | "signed out"; since: Date };

const key = ["yard"];

/** The yard's status, kept up to date by the event stream (see useStream). */
export function useYard() {
  return useQuery({
    queryKey: key,
    queryFn: () => body(api.GET("/api/v1/status")) as Promise<Yard>,
    staleTime: Infinity,
  });
}

/**
 * Follows the event stream: each event replaces the status, and makes lists
 * be asked for anew when counts changed, at most once a second.
 */
export function useStream(): Link {
  const client = useQueryClient();
  const [link, setLink] = useState<Link>({ state: "live", since: new Date() });
  useEffect(() => {
    let stream: EventSource | undefined;
    let retry: ReturnType<typeof setTimeout> | undefined;
    let refresh: ReturnType<typeof setTimeout> | undefined;
    let seen = "";
    const turn = (state: Link["state"]) =>
      setLink((l) => (l.state === state ? l : { state, since: new Date() }));
    const connect = () => {
      stream = new EventSource("/api/v1/events");
      stream.addEventListener("status", (e: MessageEvent<string>) => {
        const yard = JSON.parse(e.data) as Yard;
        turn("live");
        client.setQueryData(key, yard);
        const counts = JSON.stringify(yard.devices.map((d) => [d.states, d.holds, d.pause]));
        if (counts !== seen && !refresh) {
          seen = counts;
          refresh = setTimeout(() => {
            refresh = undefined;
            void client.invalidateQueries({ queryKey: ["copies"] });
            void client.invalidateQueries({ queryKey: ["story"] });
          }, 1000);
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
