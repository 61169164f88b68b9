import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { api, body, type Draft, type SetupChange, type SetupNow } from "../api";

/** What the keeper asks of the first plan, as it is being made. The service keeps it. */

const key = ["setup"];

/** How far it is; asked for anew as the event stream tells (see useStream). */
export function useSetup() {
  return useQuery({
    queryKey: key,
    queryFn: () => body(api.GET("/api/v1/setup")),
  });
}

function useTaken<T>(send: (what: T) => Promise<SetupNow>) {
  const client = useQueryClient();
  return useMutation({
    mutationKey: key,
    mutationFn: async (what: T) => {
      await client.cancelQueries({ queryKey: key }); // an older answer must not come after
      return send(what);
    },
    onSuccess: (now) => client.setQueryData(key, now),
    onSettled: () => void client.invalidateQueries({ queryKey: key }), // events meanwhile were not asked after
  });
}

export function useChange() {
  return useTaken((change: SetupChange) => body(api.PATCH("/api/v1/setup", { body: change })));
}

export function useAddPlace() {
  return useTaken((place: Draft & { job: string }) =>
    body(api.POST("/api/v1/setup/places", { body: place })),
  );
}

export function useRemovePlace() {
  return useTaken((name: string) =>
    body(api.DELETE("/api/v1/setup/places/{name}", { params: { path: { name } } })),
  );
}

/** Starts what was said back, and then goes to where it is seen to work. */
export function useStart() {
  const client = useQueryClient();
  const go = useNavigate();
  return useMutation({
    mutationFn: (version: number) => body(api.POST("/api/v1/setup/start", { body: { version } })),
    onError: () => client.invalidateQueries({ queryKey: key }),
    onSuccess: async () => {
      await client.refetchQueries({ queryKey: ["yard"] }); // the first page leads back here without a plan
      await go({ to: "/" });
      await client.invalidateQueries();
    },
  });
}
