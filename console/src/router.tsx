/** The console's pages and their addresses. Those with a `place` are where one can go from everywhere: in the header and in the palette. */
import { createRootRoute, createRoute, createRouter, lazyRouteComponent } from "@tanstack/react-router";

import { FlowPage } from "./pages/flow/FlowPage";
import { RoutePage } from "./pages/route/RoutePage";
import { readSearch } from "./pages/events/looked";
import { readSearch as readLedgerSearch } from "./pages/ledger/looked";
import { Message } from "./parts/Message";
import { NotFetched, PageError } from "./parts/PageError";
import { Shell } from "./Shell";

/** A page that is fetched when it is first opened. Where it cannot be, that is shown in its place; the router by itself would load the whole page again, and lose it. */
const page: typeof lazyRouteComponent = (load, name) =>
  lazyRouteComponent(
    () =>
      load().catch(() => {
        throw new NotFetched();
      }),
    name,
  );

const root = createRootRoute({ component: Shell, notFoundComponent: () => <Message heading title="No page at this address.">Start from the flow.</Message> });
const flow = createRoute({ getParentRoute: () => root, path: "/", component: FlowPage, validateSearch: (search: Record<string, unknown>) => (typeof search.at === "string" ? { at: search.at } : {}), staticData: { place: "Flow" } });
const route = createRoute({ getParentRoute: () => root, path: "/routes/$name", component: RoutePage });
const sources = createRoute({ getParentRoute: () => root, path: "/sources", component: page(() => import("./pages/sources/SourcesPage"), "SourcesPage"), staticData: { place: "Sources" } });
const events = createRoute({ getParentRoute: () => root, path: "/events", component: page(() => import("./pages/events/EventsPage"), "EventsPage"), validateSearch: readSearch, staticData: { place: "Events" } });
const plan = createRoute({ getParentRoute: () => root, path: "/plan", component: page(() => import("./pages/plan/PlanPage"), "PlanPage"), validateSearch: (search: Record<string, unknown>) => (typeof search.part === "string" ? { part: search.part } : {}), staticData: { place: "Plan" } });
const suggestions = createRoute({ getParentRoute: () => root, path: "/plan/suggestions", component: page(() => import("./pages/plan/SuggestionsPage"), "SuggestionsPage"), staticData: { title: "Suggestions" } });
const examples = createRoute({ getParentRoute: () => root, path: "/plan/examples", component: page(() => import("./pages/plan/ExamplesPage"), "ExamplesPage"), staticData: { title: "Examples" } });
const number = (n: unknown) => (typeof n === "number" && Number.isInteger(n) ? n : undefined);
const revisions = createRoute({
  getParentRoute: () => root,
  path: "/plan/revisions",
  component: page(() => import("./pages/plan/RevisionsPage"), "RevisionsPage"),
  validateSearch: (search: Record<string, unknown>): { number?: number; against?: number } => {
    const [one, other] = [number(search.number), number(search.against)];
    return { ...(one !== undefined && { number: one }), ...(other !== undefined && { against: other }) };
  },
  staticData: { title: "Revisions" },
});
const ledger = createRoute({ getParentRoute: () => root, path: "/ledger", component: page(() => import("./pages/ledger/LedgerPage"), "LedgerPage"), validateSearch: readLedgerSearch, staticData: { place: "Ledger" } });

const deliveries = createRoute({ getParentRoute: () => root, path: "/deliveries", component: page(() => import("./pages/deliveries/DeliveriesPage"), "DeliveriesPage"), staticData: { place: "Deliveries" } });
const alerts = createRoute({ getParentRoute: () => root, path: "/alerts", component: page(() => import("./pages/alerts/AlertsPage"), "AlertsPage"), staticData: { place: "Alerts" } });
const agents = createRoute({ getParentRoute: () => root, path: "/agents", component: page(() => import("./pages/agents/AgentsPage"), "AgentsPage"), validateSearch: (search: Record<string, unknown>): { host?: string } => (typeof search.host === "string" ? { host: search.host } : {}), staticData: { place: "Agents" } });
const people = createRoute({ getParentRoute: () => root, path: "/people", component: page(() => import("./pages/people/PeoplePage"), "PeoplePage"), staticData: { place: "People" } });

export const router = createRouter({ routeTree: root.addChildren([flow, sources, events, plan, suggestions, examples, revisions, route, ledger, deliveries, alerts, agents, people]), defaultErrorComponent: PageError });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
