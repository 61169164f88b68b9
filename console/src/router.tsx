import { createRootRoute, createRoute, createRouter, lazyRouteComponent } from "@tanstack/react-router";
import { Frame, NotFound } from "./parts/Frame";
import { readQuestion } from "./library/question";
import { NowPage } from "./now/NowPage";
import { readSearch } from "./queue/search";

// Every page but the first is a file of its own.
const DestinationsPage = lazyRouteComponent(
  () => import("./destinations/DestinationsPage"),
  "DestinationsPage",
);
const DevicesPage = lazyRouteComponent(() => import("./devices/DevicesPage"), "DevicesPage");
const PlanPage = lazyRouteComponent(() => import("./plan/PlanPage"), "PlanPage");
const LibraryPage = lazyRouteComponent(() => import("./library/LibraryPage"), "LibraryPage");
const QueuePage = lazyRouteComponent(() => import("./queue/QueuePage"), "QueuePage");
const RoomPage = lazyRouteComponent(() => import("./room/RoomPage"), "RoomPage");
const SetupPage = lazyRouteComponent(() => import("./setup/SetupPage"), "SetupPage");

/** Fetches the pages that were not opened yet: they open at once, and also when the service is away. */
export async function fetchPages() {
  for (const page of [QueuePage, LibraryPage, DevicesPage, RoomPage, DestinationsPage, PlanPage, SetupPage])
    await page.preload?.();
}

const root = createRootRoute({ component: Frame, notFoundComponent: NotFound });
const now = createRoute({ getParentRoute: () => root, path: "/", component: NowPage });
const queue = createRoute({
  getParentRoute: () => root,
  path: "/queue",
  component: QueuePage,
  validateSearch: readSearch,
});
const library = createRoute({
  getParentRoute: () => root,
  path: "/library",
  component: LibraryPage,
  validateSearch: readQuestion,
});
const destinations = createRoute({
  getParentRoute: () => root,
  path: "/destinations",
  component: DestinationsPage,
});

const devices = createRoute({ getParentRoute: () => root, path: "/devices", component: DevicesPage });
const room = createRoute({ getParentRoute: () => root, path: "/room", component: RoomPage });
const setup = createRoute({ getParentRoute: () => root, path: "/setup", component: SetupPage });
const plan = createRoute({ getParentRoute: () => root, path: "/plan", component: PlanPage });

export const router = createRouter({
  routeTree: root.addChildren([now, queue, library, devices, room, destinations, plan, setup]),
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
