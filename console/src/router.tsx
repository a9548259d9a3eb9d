/** The console's pages and their addresses. Those with a `place` are where one can go from everywhere: in the header and in the palette. */
import { createRootRoute, createRoute, createRouter } from "@tanstack/react-router";

import { FlowPage } from "./pages/flow/FlowPage";
import { LedgerPage } from "./pages/ledger/LedgerPage";
import { PeoplePage } from "./pages/people/PeoplePage";
import { RoutePage } from "./pages/route/RoutePage";
import { Message } from "./parts/Message";
import { Shell } from "./Shell";

const root = createRootRoute({ component: Shell, notFoundComponent: () => <Message heading title="No page at this address.">Start from the flow.</Message> });
const flow = createRoute({ getParentRoute: () => root, path: "/", component: FlowPage, validateSearch: (search: Record<string, unknown>) => (typeof search.at === "string" ? { at: search.at } : {}), staticData: { place: "Flow" } });
const route = createRoute({ getParentRoute: () => root, path: "/routes/$name", component: RoutePage });
const ledger = createRoute({ getParentRoute: () => root, path: "/ledger", component: LedgerPage, staticData: { place: "Ledger" } });

const people = createRoute({ getParentRoute: () => root, path: "/people", component: PeoplePage, staticData: { place: "People" } });

export const router = createRouter({ routeTree: root.addChildren([flow, route, ledger, people]) });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
