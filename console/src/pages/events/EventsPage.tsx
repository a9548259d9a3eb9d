/** What is in there? One sentence says what is looked at; under it are the fields, and the events or their patterns. */
import { useNavigate, useSearch } from "@tanstack/react-router";
import { ToggleGroup } from "radix-ui";
import { Suspense, lazy, useState } from "react";

import { useFlow } from "../../api/client";
import { useFields, usePatterns, useSample } from "../../api/survey";
import { useTail } from "../../api/tail";
import { FIELD } from "../../design/fields";
import { bytes, count } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { joined } from "../../lib/sentences";
import { Message } from "../../parts/Message";
import { Sentence } from "../../parts/Sentence";
import { SentenceField } from "../../parts/SentenceField";
import { EventList, type Row } from "./EventList";
import { Patterns } from "./Patterns";
import { Strips } from "./Strips";
import { Take } from "./Take";
import { type Column, type EventsSearch, type Order, type View, readColumns, writeColumns } from "./looked";

const WorldMap = lazy(async () => ({ default: (await import("./WorldMap")).WorldMap }));

/** So many events of a sample are asked for, and so many for the map. */
const [EVENTS, ON_MAP] = [600, 1000];
/** Patterns are new that came up in so many minutes. */
const NEWS = 10;
/** The samples are looked at again so often, in milliseconds. */
const EVERY = 10_000;
/** Live, so many events are kept on the page. */
const KEPT = 300;

const TOGGLE = "px-2.5 py-0.5 text-soft data-[state=on]:bg-petal-wash data-[state=on]:font-medium data-[state=on]:text-petal";

function Choice<T extends string>({ label, value, all, onChange }: { label: string; value: T; all: Record<T, string>; onChange: (value: T) => void }) {
  return (
    <ToggleGroup.Root type="single" value={value} onValueChange={(v) => v !== "" && onChange(v as T)} aria-label={label} className="flex overflow-hidden rounded border border-line text-sm">
      {(Object.keys(all) as T[]).map((key) => (
        <ToggleGroup.Item key={key} value={key} className={TOGGLE}>
          {all[key]}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

export function EventsPage() {
  const search = useSearch({ from: "/events" });
  const navigate = useNavigate({ from: "/events" });
  const { frozen } = useFrozen();
  const { data: flow, error: flowError } = useFlow(true);
  const [writes, setWrites] = useState(false);
  const [all, setAll] = useState(false);
  const points = [...(flow?.sources ?? []).map((s) => `source:${s.name}`), ...(flow?.routes ?? []).map((r) => `route:${r.name}`), ...(flow === undefined || flow.sources.length === 0 ? [] : ["remainder"])];
  const at = search.at ?? points[0] ?? "";
  const [when, view, order, live] = [search.when ?? "", search.view ?? "events", search.order ?? "tells", search.live === true];
  const columns = readColumns(search.columns);
  // Only a route has steps between what it takes and what leaves it.
  const leaving = at.startsWith("route:") && search.leaving === true;
  const looked = { point: at, when, leaving };
  const every = frozen ? false : EVERY;
  const fields = useFields(looked, every);
  const sample = useSample(looked, view === "map" ? ON_MAP : EVENTS, every, view !== "patterns" && !live);
  const patterns = usePatterns(looked, NEWS, every, view === "patterns");

  const go = (change: Partial<Record<keyof EventsSearch, unknown>>) => void navigate({ search: (old) => ({ ...old, ...change }) as EventsSearch, replace: true });
  const add = (condition: string, not = false) => go({ when: joined(when, "and", not ? `not (${condition})` : condition) });
  const setColumns = (columns: Column[]) => go({ columns: columns.length === 0 ? undefined : writeColumns(columns) });
  const toggle = (name: string) => setColumns(columns.some((c) => c.name === name) ? columns.filter((c) => c.name !== name) : [...columns, { name, width: 14 }]);

  const source = at.startsWith("source:") ? at.slice(7) : null;
  const sampled: Row[] = (sample.data?.events ?? []).map((e, i) => ({ key: `${e.at_ms} ${i}`, at_ms: e.at_ms, source: e.source, stands_for: e.stands_for, event: e.event }));
  const error = flowError ?? fields.error ?? (view !== "patterns" && !live ? sample.error : null) ?? (view === "patterns" ? patterns.error : null);
  const mistake = error?.problem.mistakes?.[0];
  if (flow !== undefined && flow.sources.length === 0) {
    return (
      <Message heading title="There is nothing to look at yet.">
        No plan with a source runs. Begin with the plan that the Flow page offers.
      </Message>
    );
  }
  return (
    <div className="flex flex-col gap-4">
      <div className="card flex flex-wrap items-center gap-x-3 gap-y-2 p-3">
        <h1 className="text-xl font-semibold">Events</h1>
        <label className="flex items-center gap-2 text-sm text-soft">
          at
          <select value={at} onChange={(e) => go({ at: e.target.value })} className={FIELD}>
            {!points.includes(at) && <option value={at}>{at.replace(":", " ")}</option>}
            {points.map((p) => (
              <option key={p} value={p}>
                {p === "remainder" ? "the remainder" : p.replace(":", " ")}
              </option>
            ))}
          </select>
        </label>
        {at.startsWith("route:") && (
          <select aria-label="Before or after the route’s steps" value={leaving ? "leaving" : "taken"} onChange={(e) => go({ leaving: e.target.value === "leaving" ? true : undefined })} className={FIELD}>
            <option value="taken">as it takes them</option>
            <option value="leaving">as they leave its steps</option>
          </select>
        )}
        <span className="text-sm text-soft">when</span>
        <div className="min-w-64 flex-1">
          {writes ? (
            <SentenceField
              kind="condition"
              label="Condition"
              value={when}
              point={at}
              placeholder="severity >= warn"
              keep="Look"
              onKeep={(sentence) => {
                go({ when: sentence === "" ? undefined : sentence });
                setWrites(false);
              }}
              onCancel={() => setWrites(false)}
            />
          ) : (
            <span className="flex items-center gap-2">
              <button type="button" aria-label={when === "" ? undefined : `Edit the condition: ${when}`} onClick={() => setWrites(true)} className="min-w-0 rounded border border-dashed border-line px-2 py-1 text-left hover:border-line-strong">
                {when === "" ? <span className="text-sm text-soft">every event: write a condition, or choose a segment below</span> : <Sentence condition text={when} />}
              </button>
              {when !== "" && (
                <button type="button" className="text-sm whitespace-nowrap text-petal underline" onClick={() => go({ when: undefined })}>
                  every event
                </button>
              )}
            </span>
          )}
        </div>
        <Choice label="From where" value={live ? "live" : "samples"} all={{ samples: "of the samples", live: "live" }} onChange={(v) => go({ live: v === "live" ? true : undefined, ...(v === "live" && { view: undefined }) })} />
        <Take looked={looked} view={view} rows={live ? [] : sampled} columns={columns} />
      </div>
      {error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {mistake === undefined ? error.message : `column ${mistake.column}: ${mistake.message}`}
        </p>
      )}
      <section aria-label="What is in there" className="card p-4">
        <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 pb-2">
          <h2 className="text-sm font-semibold text-soft">What is in there</h2>
          {fields.data !== undefined && (
            <p className="num text-sm" aria-live="polite">
              {count(fields.data.events)} events, {bytes(fields.data.bytes)}, {count(fields.data.fields.length)} fields
            </p>
          )}
          <span className="ml-auto flex items-center gap-2 text-sm text-soft">
            ordered by
            <Choice<Order> label="Order of the fields" value={order} all={{ tells: "what tells events apart", bytes: "bytes", name: "name" }} onChange={(v) => go({ order: v === "tells" ? undefined : v })} />
          </span>
        </div>
        {fields.data === undefined && error === null && <p className="text-sm text-soft">Looking through the sample…</p>}
        {fields.data?.events === 0 && <p className="text-sm text-soft">{when === "" ? "No events were seen here yet. Samples are drawn from what arrives." : "No event of the sample meets the condition."}</p>}
        {fields.data !== undefined && fields.data.events > 0 && <Strips fields={fields.data} order={order} all={all} columns={columns} onAll={() => setAll(!all)} onAdd={add} onColumn={toggle} />}
      </section>
      <section aria-label={view === "patterns" ? "Patterns of the messages" : "The events"} className="card p-4">
        <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 pb-2">
          <Choice<View> label="Shown as" value={view} all={{ events: "events", patterns: "condensed to patterns", map: "on a map" }} onChange={(v) => go({ view: v === "events" ? undefined : v, ...(v !== "events" && { live: undefined }) })} />
          {view !== "patterns" && !live && sample.data !== undefined && (
            <p className="num text-sm text-soft">
              {count(sample.data.kept)} kept, which stand for {count(sample.data.stands_for)}
              {sample.data.kept > sampled.length ? `; the newest ${count(sampled.length)}` : ""}
            </p>
          )}
        </div>
        {view === "patterns" && patterns.data !== undefined && <Patterns patterns={patterns.data} at={at} onAdd={(condition) => go({ when: joined(when, "and", condition), view: undefined })} />}
        {view === "map" && sample.data !== undefined && (
          <Suspense fallback={<p className="text-sm text-soft">Loading the map…</p>}>
            <WorldMap rows={sampled} onAdd={(condition) => add(condition)} />
          </Suspense>
        )}
        {view === "events" && live && <Live leaving={leaving} point={at} when={when} frozen={frozen} source={source} columns={columns} onColumns={setColumns} onAdd={add} onColumn={toggle} />}
        {view === "events" && !live && <EventList rows={sampled} columns={columns} onColumns={setColumns} onAdd={add} onColumn={toggle} />}
      </section>
    </div>
  );
}

interface LiveProps {
  leaving: boolean;
  point: string;
  when: string;
  frozen: boolean;
  source: string | null;
  columns: Column[];
  onColumns: (columns: Column[]) => void;
  onAdd: (condition: string, not: boolean) => void;
  onColumn: (name: string) => void;
}

/** Events as they pass the point. */
function Live({ leaving, point, when, frozen, source, ...list }: LiveProps) {
  const tail = useTail(point, when, frozen, KEPT);
  const shown = leaving ? tail.events.filter((e) => e.after != null) : tail.events;
  const rows = shown.map((e): Row => ({ key: String(e.id), at_ms: e.at_ms, source, stands_for: 1, event: leaving ? e.after : e.before }));
  return (
    <>
      {tail.state === "broken" && (
        <p role="alert" className="text-sm text-fails">
          ▲ The stream cannot be opened{tail.refused === null ? "" : `: ${tail.refused.says}`}.
        </p>
      )}
      {rows.length === 0 && tail.state !== "broken" && <p className="text-sm text-soft">Waiting for the next event here.</p>}
      {tail.skipped > 0 && <p className="num text-sm text-waits">{count(tail.skipped)} more passed than can be shown.</p>}
      {tail.grants !== null && <p className="text-sm text-soft">Your grants show you some of the events here: {tail.grants.join("; ")}</p>}
      <EventList rows={rows} {...list} />
    </>
  );
}
