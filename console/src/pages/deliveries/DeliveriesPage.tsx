/** What is waiting, failing, quarantined, and what can I do about it? */
import { Link } from "@tanstack/react-router";

import { type FlowDestination, useFlow } from "../../api/client";
import { age, bytes, count, events, money, utc } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { useMay } from "../../lib/grants";
import { Message } from "../../parts/Message";
import { ByteRate, Rate } from "../../parts/Quantity";
import { Sentence } from "../../parts/Sentence";
import { State } from "../../parts/State";
import { Operate } from "../flow/Operate";
import { AddDestination } from "./AddDestination";
import { Day } from "./Day";
import { Quarantine } from "./Quarantine";
import { Secrets } from "./Secrets";

/** Those in trouble first, then those for which most waits. */
const URGENCY: Record<string, number> = { failing: 0, full: 1, slow: 2, stopped: 3, paused: 4 };
const urgency = (d: FlowDestination) => URGENCY[d.health.state] ?? 9;

function Delivery({ destination: d, now, may }: { destination: FlowDestination; now: number; may: boolean }) {
  const { health } = d;
  return (
    <article aria-label={`Destination ${d.name}`} className={`card p-4 ${health.state === "failing" ? "border-fails" : ""}`}>
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(14rem,27rem)] gap-x-6 gap-y-2 max-xl:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] max-lg:grid-cols-1">
        <div className="min-w-0">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <h3 className="text-lg font-semibold">{d.name}</h3>
            <span className="text-sm text-soft">{d.kind}</span>
            <Link to="/plan" search={{ part: `destination:${d.name}` }} className="text-sm text-petal underline" aria-label={`${d.name} in the plan`}>
              in the plan
            </Link>
          </div>
          <p className="text-sm">
            <State destination={d} now={now} />{" "}
            <span className="text-soft" title={utc(health.since_ms)}>
              for {age(now - health.since_ms)}
            </span>
            {health.paused_by != null && <span className="text-soft">, paused by {health.paused_by}</span>}
          </p>
          <p className="truncate font-mono text-xs text-soft" title={d.target}>
            {d.target}
          </p>
          {health.last_error != null && (
            <p className={`mt-1 text-sm break-words ${health.state === "failing" ? "text-fails" : "text-soft"}`}>
              {health.state === "failing" ? "▲ " : "last refused: "}
              {health.last_error}
              {health.last_error_ms != null && <span className="num text-soft"> ({age(now - health.last_error_ms)} ago)</span>}
              {health.next_try_ms != null && health.next_try_ms > now && <span className="num text-soft"> · next try in {age(health.next_try_ms - now)}</span>}
            </p>
          )}
          {health.noticed != null && <p className="text-sm text-waits">{health.noticed}</p>}
          {d.caveat != null && <p className="text-xs text-soft">{d.caveat}</p>}
        </div>
        <dl className="grid grid-cols-[7rem_minmax(0,1fr)] content-start gap-x-3 gap-y-0.5 text-sm">
          <dt className="text-soft">takes</dt>
          <dd className="num">
            <Rate gauge={d.delivered} /> <ByteRate gauge={d.delivered} className="text-soft" />
          </dd>
          <dt className="text-soft">waits</dt>
          <dd className={`num ${d.waiting_events > 0 && now - d.oldest_ms > 5000 ? "text-waits" : ""}`}>{d.waiting_events === 0 ? "nothing" : `${events(d.waiting_events)}, ${bytes(d.waiting_bytes)}, the oldest for ${age(now - d.oldest_ms)}`}</dd>
          <dt className="text-soft">refused</dt>
          <dd className={`num ${d.quarantined.events > 0 ? "text-fails" : ""}`}>{d.quarantined.events === 0 ? "none" : `${count(d.quarantined.events)} for good`}</dd>
          {d.cost != null && (
            <>
              <dt className="text-soft">costs</dt>
              <dd className="num" title={`${d.cost.says}; days begin at midnight UTC`}>
                {money(d.cost.today, d.cost.currency)} today
              </dd>
            </>
          )}
          {d.steps.length > 0 && (
            <>
              <dt className="text-soft">always</dt>
              <dd>
                {d.steps.map((s) => (
                  <p key={s.position}>
                    <Sentence text={s.sentence} />
                  </p>
                ))}
              </dd>
            </>
          )}
        </dl>
        {d.in_plan && <Day name={d.name} now={now} />}
      </div>
      {may && d.in_plan && (
        <div className="mt-2 border-t border-line pt-2">
          <Operate name={d.name} />
        </div>
      )}
    </article>
  );
}

export function DeliveriesPage() {
  const { frozen } = useFrozen();
  const { data: flow, error } = useFlow(frozen);
  const may = useMay();
  if (flow === undefined) return error === null ? <Message title="Loading the destinations…" /> : <Message tone="fails" heading title={`The deliveries cannot be shown: ${error.message}.`} />;
  const sorted = [...flow.destinations].sort((a, b) => urgency(a) - urgency(b) || b.waiting_events - a.waiting_events);
  const [trouble, waits] = [sorted.filter((d) => urgency(d) < 4).length, sorted.reduce((sum, d) => sum + d.waiting_events, 0)];
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-xl font-semibold">Deliveries</h1>
        <p className="text-sm" aria-live="polite">
          {sorted.length === 0 ? "" : trouble === 0 ? <span className="text-goes-on">✓ {sorted.length === 1 ? "The destination is" : `All ${count(sorted.length)} destinations are`} in order.</span> : <span className="text-fails">▲ {count(trouble)} of {count(sorted.length)} {trouble === 1 ? "is" : "are"} in trouble.</span>}
          {waits > 0 && <span className="num text-soft"> {events(waits)} {waits === 1 ? "is" : "are"} queued.</span>}
        </p>
        {may("change") && (
          <span className="ml-auto">
            <AddDestination />
          </span>
        )}
      </div>
      {error !== null && <p role="alert" className="text-sm text-fails">▲ {error.message}; what is shown is from before.</p>}
      <h2 className="sr-only">Destinations</h2>
      {sorted.length === 0 && <Message title="The plan has no destination yet.">Add one, and lead a route to it.</Message>}
      {sorted.map((d) => (
        <Delivery key={d.name} destination={d} now={flow.now_ms} may={may("operate")} />
      ))}
      <Quarantine />
      <Secrets may={may("secrets")} />
    </div>
  );
}
