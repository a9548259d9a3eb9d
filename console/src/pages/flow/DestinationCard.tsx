import { memo } from "react";

import type { FlowDestination, VolumeBefore } from "../../api/client";
import { age, bytes, count, money } from "../../lib/format";
import { ByteRate, Rate } from "../../parts/Quantity";
import { Sentence } from "../../parts/Sentence";
import { State } from "../../parts/State";
import { Before } from "./Before";
import { Card, Choose } from "./Card";

/** What waits less long than this, in milliseconds, is only passing through. */
const OLD = 5000;

/** A queue as long as this, in seconds at the present rate, fills its drawing. */
const LONG = 600;

/** What waits, as long as it takes to be delivered at the present rate. */
function Queue({ destination: d }: { destination: FlowDestination }) {
  const rate = d.delivered.bytes_per_second;
  const seconds = rate > 0 ? d.waiting_bytes / rate : Infinity;
  const says = rate > 0 ? `takes ${age(seconds * 1000)} at the present rate` : "nothing is taken at present";
  return (
    <span className="flex items-center gap-2 text-xs text-waits" title={says}>
      <span role="img" aria-label={`What waits: ${says}`} className="h-2 flex-1 rounded-sm bg-raised">
        <span className="block h-2 rounded-sm bg-waits" style={{ width: `${Math.max(2, 100 * Math.min(1, seconds / LONG))}%` }} />
      </span>
      {says}
    </span>
  );
}

/** Drawn again only when what it shows has changed: there may be a thousand. */
export const DestinationCard = memo(function DestinationCard({ destination: d, before, now, chosen, choose }: { destination: FlowDestination; before: VolumeBefore | undefined; now: number; chosen: boolean; choose: (point: string | null) => void }) {
  const point = `destination:${d.name}`;
  const { health } = d;
  return (
    <Card point={point} chosen={chosen} className={health.state === "failing" ? "border-fails" : ""}>
      <div className="flex items-baseline justify-between gap-2">
        {d.in_plan ? (
          <Choose point={point} chosen={chosen} choose={choose}>
            {d.name}
          </Choose>
        ) : (
          <span className="font-semibold">{d.name}</span>
        )}
        <Rate gauge={d.delivered} className="font-semibold text-goes-on" />
      </div>
      <div className="flex items-baseline justify-between gap-2 text-sm text-soft">
        <State destination={d} now={now} />
        <ByteRate gauge={d.delivered} />
      </div>
      <Before before={before} />
      <dl className="mt-1.5 grid grid-cols-[auto_1fr] gap-x-3 border-t border-line pt-1.5 text-sm">
        <dt className="text-soft">to</dt>
        <dd className="truncate text-right font-mono text-xs leading-relaxed" title={d.target}>
          {d.in_plan ? (d.target === "" ? "nowhere" : d.target) : "no longer in the plan"}
        </dd>
        {d.caveat !== null && d.caveat !== undefined && <dd className="col-span-2 text-xs text-soft">{d.caveat}</dd>}
        <dt className="text-soft">waiting</dt>
        <dd className={`num text-right ${now - d.oldest_ms >= OLD && d.waiting_events > 0 ? "text-waits" : ""}`}>
          {d.waiting_events === 0 ? "nothing" : `${count(d.waiting_events)}, ${bytes(d.waiting_bytes)}, oldest ${age(now - d.oldest_ms)}`}
        </dd>
        {d.waiting_events > 0 && now - d.oldest_ms >= OLD && (
          <dd className="col-span-2">
            <Queue destination={d} />
          </dd>
        )}
        {d.cost !== null && d.cost !== undefined && (
          <>
            <dt className="text-soft">cost today</dt>
            <dd className="num text-right" title={`${d.cost.says}; days begin at midnight UTC`}>
              {money(d.cost.today, d.cost.currency)}
            </dd>
          </>
        )}
        {d.quarantined.events > 0 && (
          <>
            <dt className="text-soft">refused</dt>
            <dd className="num text-right text-fails">{count(d.quarantined.events)}</dd>
          </>
        )}
      </dl>
      {health.state === "failing" && (
        <p className="mt-1.5 border-t border-line pt-1.5 text-sm break-words text-fails">
          {health.last_error}
          {health.next_try_ms !== null && health.next_try_ms !== undefined && <span className="num text-soft"> · next try in {age(health.next_try_ms - now)}</span>}
        </p>
      )}
      {d.steps.length > 0 && (
        <ul className="mt-1.5 border-t border-line pt-1.5">
          {d.steps.map((s) => (
            <li key={s.position}>
              <span className="text-xs text-soft">always </span>
              <Sentence text={s.sentence} />
            </li>
          ))}
        </ul>
      )}
    </Card>
  );
});
