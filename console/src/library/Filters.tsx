import { Search } from "lucide-react";
import { useEffect, useState } from "react";
import type { Found } from "../api";
import { Button } from "../parts/Button";
import { fieldLook } from "../parts/Field";
import { PickOne } from "../parts/PickOne";
import { plural } from "../words";
import { query, type Question } from "./question";

/** Before the name of a set. */
const inSet = "in ";

/** What is asked for: words, and what the items have in common, each with how many there are. */
export function Filters({ q, found, go }: { q: Question; found?: Found; go: (change: Question) => void }) {
  const list = (shares: { name: string; n: number }[] | undefined, chosen?: string) => {
    const names = shares?.map((s) => s.name) ?? [];
    return chosen && !names.includes(chosen) ? [chosen, ...names] : names;
  };
  const many = (shares?: { name: string; n: number }[]) => (o: string) => {
    const n = shares?.find((s) => s.name === o)?.n;
    return o && n !== undefined ? `${o} (${n.toLocaleString("en-GB")})` : o;
  };
  // On a phone they would stand before everything else.
  const [shown, setShown] = useState(false);
  const some = Object.keys(query(q)).filter((k) => k !== "text").length;
  return (
    <div className="flex flex-wrap items-end gap-3">
      <Words text={q.text ?? ""} go={(text) => go({ text: text || undefined })} />
      <Button className="sm:hidden" aria-expanded={shown} onClick={() => setShown(!shown)}>
        {some > 0 ? `Filters (${some})` : "Filters"}
      </Button>
      <div className={`${shown ? "flex" : "hidden"} flex-wrap items-end gap-3 sm:contents`}>
        {(found?.people.length ?? 0) + (q.person ? 1 : 0) > 0 && (
          <PickOne
            label="Whose"
            all="everybody's"
            options={list(found?.people, q.person)}
            called={many(found?.people)}
            value={q.person}
            pick={(person) => go({ person })}
          />
        )}
        <PickOne
          label="Device"
          all="all devices"
          options={list(found?.devices, q.device)}
          called={many(found?.devices)}
          value={q.device}
          pick={(device) => go({ device })}
        />
        <PickOne
          label="Kind"
          all="all kinds"
          options={list(found?.kinds, q.kind)}
          called={(o) => o && plural(o)}
          value={q.kind}
          pick={(kind) => go({ kind })}
        />
        <PickOne
          label="Safe at"
          all="any place or none"
          options={list(found?.at, q.at)}
          called={many(found?.at)}
          value={q.at}
          pick={(at) => go({ at })}
        />
        <PickOne
          label="Camera"
          all="any camera"
          options={list(found?.cameras, q.camera)}
          called={many(found?.cameras)}
          value={q.camera}
          pick={(camera) => go({ camera })}
        />
        <PickOne
          label="On its device"
          all="there or not"
          options={["here", "gone"]}
          called={(o) => ({ here: "still there", gone: "no longer there" })[o] ?? o}
          value={q.where}
          pick={(where) => go({ where })}
        />
        <PickOne
          label="You said"
          all="anything"
          options={["marked", "hidden", ...list(found?.sets, q.set).map((s) => inSet + s)]}
          value={q.marked ? "marked" : q.hidden ? "hidden" : q.set && inSet + q.set}
          pick={(said) =>
            go({
              marked: said === "marked" ? "true" : undefined,
              hidden: said === "hidden" ? "true" : undefined,
              set: said?.startsWith(inSet) ? said.slice(inSet.length) : undefined,
            })
          }
        />
      </div>
    </div>
  );
}

/** Words are asked for once no more are written for a moment. */
function Words({ text, go }: { text: string; go: (text: string) => void }) {
  const [now, setNow] = useState(text);
  const [was, setWas] = useState(text);
  if (text !== was) {
    setWas(text);
    setNow(text);
  }
  useEffect(() => {
    if (now === text) return;
    const later = setTimeout(() => go(now), 250);
    return () => clearTimeout(later);
  }, [now, text, go]);
  return (
    <label className="min-w-52 grow sm:max-w-80">
      <span className="mb-1 flex items-center gap-1 text-sm text-quiet">
        <Search aria-hidden className="size-4" /> Find
      </span>
      <input
        type="search"
        className={fieldLook}
        placeholder="a name, a caption, a folder"
        value={now}
        onChange={(e) => setNow(e.target.value)}
      />
    </label>
  );
}
