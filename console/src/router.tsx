import { createRootRoute, createRoute, createRouter } from "@tanstack/react-router";
import { Frame, NotFound } from "./parts/Frame";
import { DestinationsPage } from "./destinations/DestinationsPage";
import { DevicesPage } from "./devices/DevicesPage";
import { NowPage } from "./now/NowPage";
import { PlanPage } from "./plan/PlanPage";
import { QueuePage } from "./queue/QueuePage";
import { SetupPage } from "./setup/SetupPage";
import { readSearch } from "./queue/search";

const root = createRootRoute({ component: Frame, notFoundComponent: NotFound });
const now = createRoute({ getParentRoute: () => root, path: "/", component: NowPage });
const queue = createRoute({
  getParentRoute: () => root,
  path: "/queue",
  component: QueuePage,
  validateSearch: readSearch,
});
const destinations = createRoute({
  getParentRoute: () => root,
  path: "/destinations",
  component: DestinationsPage,
});

const devices = createRoute({ getParentRoute: () => root, path: "/devices", component: DevicesPage });
const setup = createRoute({ getParentRoute: () => root, path: "/setup", component: SetupPage });
const plan = createRoute({ getParentRoute: () => root, path: "/plan", component: PlanPage });

export const router = createRouter({
  routeTree: root.addChildren([now, queue, devices, destinations, plan, setup]),
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
