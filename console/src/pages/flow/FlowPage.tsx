/** What comes in, what is done to it, what goes where, right now? */
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useCallback, useDeferredValue, useMemo, useRef, useState } from "react";

import { type Flow, useBefore, useFlow } from "../../api/client";
import { SMALL_BUTTON } from "../../design/buttons";
import { count } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { grouped, groupings } from "../../lib/groups";
import { useStored } from "../../lib/stored";
import { GroupBy } from "../../parts/GroupBy";
import { Message } from "../../parts/Message";
import { type Band, Bands, ofMany } from "./Bands";
import { DestinationCard } from "./DestinationCard";
import { Drawer } from "./Drawer";
import { FirstPlan } from "./FirstPlan";
import { RemainderCard } from "./RemainderCard";
import { RouteCard } from "./RouteCard";
import { RouteLine } from "./RouteLine";
import { SourceCard } from "./SourceCard";

/** From so many routes on, they can be searched. */
const MANY = 8;
/** Most route cards that are drawn at once, and most lines. */
const DRAWN = 40;
const DRAWN_LINES = 120;

function bands(flow: Flow, drawn: Set<string>): Band[] {
  const list: Band[] = [];
  for (const route of flow.routes.filter((r) => drawn.has(r.name))) {
    for (const from of route.from) {
      const share = route.taken_from.find((s) => s.from === from);
      list.push({ from: `source:${from}`, to: `route:${route.name}`, bytes: share?.gauge.bytes_per_second ?? 0, kind: "arrive" });
    }
    for (const to of route.to) {
      const share = flow.destinations.find((d) => d.name === to)?.offered_from.find((s) => s.from === route.name);
      list.push({ from: `route:${route.name}`, to: `destination:${to}`, bytes: share?.gauge.bytes_per_second ?? 0, kind: "goes-on" });
    }
  }
  for (const source of flow.sources.filter((s) => s.remainder.events > 0)) {
    list.push({ from: `source:${source.name}`, to: "remainder", bytes: source.remainder.bytes_per_second, kind: "remainder" });
  }
  return list;
}

function Column({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <section aria-label={title} className="relative z-1 flex min-w-0 flex-col gap-3">
      <h2 className="text-sm font-semibold text-soft">{title}</h2>
      {children}
    </section>
  );
}

export function FlowPage() {
  const { frozen } = useFrozen();
  const { data: flow, error } = useFlow(frozen);
  const { data: hours } = useBefore();
  const before = useMemo(() => new Map((hours?.places ?? []).map((p) => [p.point, p])), [hours]);
  const at = useSearch({ from: "/" }).at ?? null;
  const navigate = useNavigate({ from: "/" });
  const choose = useCallback((point: string | null) => void navigate({ search: point === null ? {} : { at: point }, replace: true }), [navigate]);
  const [wanted, setWanted] = useState("");
  const [form, setForm] = useStored("flow-form");
  const [by, setBy] = useStored("flow-group");
  const drawing = useRef<HTMLDivElement>(null);
  // What is written shows at once; the routes that it finds follow.
  const sought = useDeferredValue(wanted);
  const routes = useMemo(() => {
    const words = sought.toLowerCase();
    return (flow?.routes ?? []).filter((r) => `${r.name} ${r.when} ${r.steps.map((s) => s.sentence).join(" ")}`.toLowerCase().includes(words));
  }, [flow, sought]);
  const compact = form === null ? (flow?.routes.length ?? 0) > MANY : form === "lines";
  const drawn = useMemo(() => routes.slice(0, compact ? DRAWN_LINES : DRAWN), [routes, compact]);
  const joined = useMemo(() => (flow === undefined ? [] : bands(flow, new Set(drawn.map((r) => r.name)))), [flow, drawn]);
  const thick = useMemo(() => ofMany(joined, at), [joined, at]);

  if (flow === undefined) {
    return error === null ? <Message title="Loading the plan…" /> : <Message tone="fails" title={`The flow cannot be shown: ${error.message}.`}>Retrying every second.</Message>;
  }
  if (flow.sources.length === 0 && flow.destinations.length === 0) {
    return <FirstPlan />;
  }
  const ways = groupings(flow.routes);
  const group = ways.includes(by ?? "") ? (by ?? "") : "";
  return (
    <>
      <h1 className="sr-only">Flow</h1>
      {error !== null && <p role="alert" className="mb-3 text-sm text-fails">▲ {error.message}; what is shown is from before.</p>}
      <div ref={drawing} className="relative grid grid-cols-[minmax(200px,15rem)_minmax(320px,1fr)_minmax(220px,17rem)] gap-x-[clamp(40px,6vw,130px)] max-md:grid-cols-1 max-md:gap-y-6">
        <Bands within={drawing} bands={thick} chosen={at} />
        <Column title="Sources">
          {flow.sources.map((s) => (
            <SourceCard key={s.name} source={s} before={before.get(`source:${s.name}`)} chosen={at === `source:${s.name}`} choose={choose} />
          ))}
        </Column>
        <Column title={flow.routes.length > MANY ? `Routes (${flow.routes.length})` : "Routes"}>
          {flow.routes.length > MANY && (
            <input
              value={wanted}
              onChange={(e) => setWanted(e.target.value)}
              placeholder="find a route by its name or its sentences"
              aria-label="Find a route"
              className="rounded border border-line bg-surface px-3 py-1.5 text-sm"
            />
          )}
          <div className="flex flex-wrap items-center gap-3 text-sm text-soft">
            <button type="button" aria-pressed={compact} onClick={() => setForm(compact ? "cards" : "lines")} className={SMALL_BUTTON}>
              {compact ? "Show the sentences" : "One line a route"}
            </button>
            <GroupBy label="grouped by" ways={ways} by={by} choose={setBy} />
          </div>
          {grouped(drawn, group).map((group) => (
            <div key={group.name} className={`flex flex-col ${compact ? "gap-1" : "gap-3"}`}>
              {group.name !== "" && <h3 className="text-sm font-semibold text-soft">{group.name}</h3>}
              {group.routes.map((r) => {
                const point = `route:${r.name}`;
                const shown = { route: r, before: before.get(point), chosen: at === point, choose };
                return compact ? <RouteLine key={r.name} {...shown} /> : <RouteCard key={r.name} {...shown} />;
              })}
            </div>
          ))}
          {routes.length > drawn.length && <p className="text-sm text-soft">{routes.length - drawn.length} more; find them by name.</p>}
          {joined.length > thick.length && <p className="text-sm text-soft">Of {count(joined.length)} bands, the {count(thick.length)} that carry most are drawn.</p>}
          <RemainderCard sources={flow.sources} chosen={at === "remainder"} choose={choose} />
        </Column>
        <Column title="Destinations">
          {flow.destinations.map((d) => (
            <DestinationCard key={d.name} destination={d} before={before.get(`destination:${d.name}`)} now={flow.now_ms} chosen={at === `destination:${d.name}`} choose={choose} />
          ))}
        </Column>
      </div>
      {at !== null && <Drawer point={at} now={flow.now_ms} close={() => choose(null)} />}
    </>
  );
}
