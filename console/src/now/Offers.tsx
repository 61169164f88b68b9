import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { api, body, type PlanOffer } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { Tried } from "../plan/Tried";

/** What would help a place whose room runs out; it takes a few pictures of the keeper's own to tell. */
function useOffers(name: string, asked: boolean) {
  return useQuery({
    queryKey: ["offers", name],
    enabled: asked,
    staleTime: 60_000,
    retry: false,
    queryFn: () => body(api.GET("/api/v1/destinations/{name}/offers", { params: { path: { name } } })),
  });
}

/** Where the room of a place runs out: what is lacking, and, when asked, what would help, in figures. */
export default function Offers({ name, says }: { name: string; says: string }) {
  const [asked, setAsked] = useState(false);
  const offers = useOffers(name, asked);
  return (
    <div className="mt-2 space-y-2 rounded-md bg-lamp p-3 text-ink">
      <p className="wrap-anywhere">{says}</p>
      {!asked && (
        <Button onClick={() => setAsked(true)} aria-label={`What would help ${name}`}>
          What would help
        </Button>
      )}
      <div aria-live="polite" className="space-y-2">
        {asked && offers.isPending && (
          <p className="text-sm text-quiet">A few of your pictures are made smaller, to tell…</p>
        )}
        <Failure error={offers.error} />
        {offers.data && (
          <ul className="space-y-2">
            {offers.data.map((o) => (
              <Offer key={o.says} offer={o} />
            ))}
            <li>
              <Link to="/destinations" className="underline">
                Or add a place
              </Link>
              , or make room at {name}.
            </li>
          </ul>
        )}
      </div>
    </div>
  );
}

function Offer({ offer: o }: { offer: PlanOffer }) {
  const [open, setOpen] = useState(false);
  const title = o.says.split(/[.,]/)[0] ?? "";
  return (
    <li className="space-y-2 rounded-md bg-plank p-2">
      <p className="wrap-anywhere">
        <strong className={o.fits ? "text-safe" : "text-waits"}>{o.fits ? "Fits" : "Does not fit"}</strong>{" "}
        {o.says}
      </p>
      {open ? (
        <Tried edits={o.edits} version={o.base} done={() => setOpen(false)} />
      ) : (
        <Button onClick={() => setOpen(true)} aria-label={`Look at it: ${title}`}>
          Look at it
        </Button>
      )}
    </li>
  );
}
