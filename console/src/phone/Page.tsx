import { useQuery } from "@tanstack/react-query";
import { useEffect, useState, useSyncExternalStore } from "react";
import type { Mine } from "../api";
import { Button } from "../parts/Button";
import { Notice } from "../parts/Notice";
import { Given } from "./Given";
import { Hander, isOpen, leftOpen } from "./handing";
import { ask, ownKey, Refused } from "./key";
import { Pick } from "./Pick";
import { Progress } from "./Progress";
import { useAwake } from "./awake";

const hander = new Hander();
const before = leftOpen();

/** The page of one phone: what it hands over, how far that is, and what may be deleted on it. */
export function Page() {
  const handing = useSyncExternalStore(hander.subscribe, hander.now);
  const [key] = useState(ownKey);
  const mine = useQuery({
    queryKey: ["mine"],
    queryFn: () => ask<Mine>("/p/mine"),
    enabled: key !== "" && !handing.shut,
    refetchInterval: 4000,
  });
  // What the gallery shares to the page comes with a cookie: over an address that nobody reads along.
  useEffect(() => {
    if (key !== "" && window.isSecureContext && location.protocol === "https:")
      void ask("/p/keep", {}).catch(() => undefined);
  }, [key]);
  const open = handing.files.filter(isOpen).length;
  const kept = useAwake(open > 0 && !handing.paused);
  const refused = mine.error instanceof Refused && mine.error.status === 401;
  return (
    <main className="mx-auto max-w-xl space-y-5 px-4 py-5">
      <header className="flex items-center gap-2 font-head text-lg font-semibold">
        <img src="/p/mark.svg" alt="" className="size-8" />
        Yard Tide
      </header>
      {key === "" || handing.shut || refused ? (
        <Shut none={key === ""} />
      ) : (
        <>
          <h1 className="text-2xl font-semibold">
            {mine.data ? `Your pictures, kept safe by ${mine.data.yard}` : "Your pictures, kept safe"}
          </h1>
          <Shared />
          {handing.files.length === 0 && before > 0 && (
            <p className="rounded-md bg-lamp p-3">
              {before === 1 ? "One picture was" : `${before.toLocaleString("en-GB")} pictures were`} still on
              the way when this page was left. Choose the same ones once more: it goes on where it was, and
              nothing is sent twice.
            </p>
          )}
          <Pick add={(files) => hander.add(files)} mine={mine.data} begun={handing.files.length > 0} />
          {handing.files.length > 0 && (
            <Progress handing={handing} pause={(on) => hander.pause(on)} awake={kept} />
          )}
          {mine.isError && !handing.says && (
            <p role="status" className="rounded-md bg-lamp p-3">
              Nothing answers at home just now. This page tries again by itself.
            </p>
          )}
          {mine.data && <Given mine={mine.data} />}
        </>
      )}
    </main>
  );
}

/** Why some of what was shared was not taken in. */
const whyLeft: Record<string, string> = {
  room: "The others were not: there is no room for them now. Share them again later.",
  failed: "The others were not: choose them here instead.",
};

/** What the phone's gallery shared to the page before it opened. */
function Shared() {
  const [told, setTold] = useState(() => new URLSearchParams(location.search));
  const n = Number(told.get("shared") ?? 0);
  const left = whyLeft[told.get("left") ?? ""];
  if (!(n > 0) && !left) return null;
  const came = n === 1 ? "One picture was" : `${n > 0 ? n.toLocaleString("en-GB") : "No"} pictures were`;
  return (
    <p
      role="status"
      className={`flex items-center justify-between gap-2 rounded-md p-3 ${left ? "bg-lamp" : "bg-wash"}`}
    >
      <span>
        {came} handed over. {left}
      </span>
      <Button
        onClick={() => {
          history.replaceState(null, "", location.pathname);
          setTold(new URLSearchParams());
        }}
      >
        Good
      </Button>
    </p>
  );
}

function Shut({ none }: { none: boolean }) {
  return (
    <Notice title={none ? "This page needs its key" : "This phone's key was taken back"} tone="alarm">
      <p>
        {none
          ? "Open it by the picture code, or the address, that whoever keeps your household's pictures gives you."
          : "Nothing can be handed over with it any more. Ask whoever keeps your household's pictures for a new one. What was handed over before goes on."}
      </p>
    </Notice>
  );
}
