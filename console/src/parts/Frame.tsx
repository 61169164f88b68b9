import { Link, Outlet, useLocation } from "@tanstack/react-router";
import type { Device } from "../api";
import { when } from "../words";
import { useStream, useYard, type Link as Connection } from "../yard";
import { Boundary } from "./Boundary";
import { Notice } from "./Notice";

const tab =
  "border-b-3 border-transparent px-1 py-2 font-head font-medium text-quiet hover:text-ink aria-[current=page]:border-tide aria-[current=page]:text-ink";

const connection: Record<Connection["state"], string> = {
  connecting: "Connecting…",
  live: "Live",
  lost: "Not connected",
  "signed out": "Signed out",
};

/** What stands around every page: the yard's name, the way between pages, and how the connection is. */
export function Frame() {
  const link = useStream();
  const yard = useYard();
  const page = useLocation({ select: (l) => l.pathname });
  return (
    <div className="flex min-h-dvh flex-col">
      <a
        href="#content"
        className="sr-only focus:not-sr-only focus:absolute focus:m-2 focus:bg-plank focus:p-2"
      >
        Skip to the content
      </a>
      <header className="border-b border-line bg-plank">
        <div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-6 px-4 sm:px-6">
          <p className="flex items-center gap-2 py-3 font-head text-lg font-semibold">
            <img src="/mark.svg" alt="" className="size-6" />
            {yard.data?.yard || "Yard Tide"}
          </p>
          <nav aria-label="Pages" className="flex flex-wrap gap-x-2 self-end sm:gap-x-5">
            <Link to="/" className={tab}>
              Now
            </Link>
            <Link to="/queue" className={tab}>
              Queue
            </Link>
            <Link to="/library" className={tab}>
              Library
            </Link>
            <Link to="/devices" className={tab}>
              Devices
            </Link>
            <Link to="/room" className={tab}>
              Room
            </Link>
            <Link to="/destinations" className={tab}>
              Destinations
            </Link>
            <Link to="/plan" className={tab}>
              Plan
            </Link>
            {yard.data && !yard.data.yard && (
              <Link to="/setup" className={tab}>
                Set-up
              </Link>
            )}
          </nav>
          <Unsafe devices={yard.data?.devices ?? []} here={page === "/"} />
          <p className="hidden text-sm text-quiet sm:block" role="status">
            {connection[link.state]}
          </p>
        </div>
      </header>
      <Disconnected link={link} />
      <main id="content" className="mx-auto w-full max-w-6xl grow px-4 py-4 sm:px-6">
        {link.state === "signed out" ? (
          <SignedOut />
        ) : (
          <Boundary key={page} of="This page">
            <Outlet />
          </Boundary>
        )}
      </main>
    </div>
  );
}

const unsafe = ["waiting", "preparing", "sending", "proving", "stuck"];

/** How much is not safe yet, one click away from every page. */
function Unsafe({ devices, here }: { devices: Device[]; here: boolean }) {
  const n = devices.reduce((sum, d) => sum + unsafe.reduce((all, s) => all + (d.states[s]?.n ?? 0), 0), 0);
  if (n === 0) return <span className="ml-auto" />;
  return (
    <Link
      to="/queue"
      search={{ state: "unsafe" }}
      className={`ml-auto py-2 text-sm underline decoration-line underline-offset-4 ${here ? "max-sm:hidden" : ""}`} // Now itself says it
    >
      {n.toLocaleString("en-GB")} not safe yet
    </Link>
  );
}

function Disconnected({ link }: { link: Connection }) {
  if (link.state !== "lost") return null;
  return (
    <div role="alert" className="border-b border-line bg-lamp px-4 py-2 text-center">
      The service does not answer since {when(link.since.toISOString())}. What you see is from then; it is
      tried again every other second.
    </div>
  );
}

function SignedOut() {
  return (
    <Notice title="This browser is not signed in">
      <p>
        Open the one-time link that the service printed when it started, or print a new one in a terminal with{" "}
        <code className="font-semibold">yardtide link</code>.
      </p>
    </Notice>
  );
}

export function NotFound() {
  return (
    <Notice title="There is no such page">
      <p>
        <Link to="/" className="underline">
          Back to Now
        </Link>
      </p>
    </Notice>
  );
}
