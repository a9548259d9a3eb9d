/** The last hour of a source, route or destination: what went on and what was removed, minute by minute. */
import { useMinutes } from "../api/client";
import { clock, count } from "../lib/format";

const MEASURES = {
  source: { all: "received", on: "passed" },
  route: { all: "taken", on: "out" },
  destination: { all: "offered", on: "delivered" },
} as const;

export function Minutes({ place, name }: { place: keyof typeof MEASURES; name: string }) {
  const { data, dataUpdatedAt } = useMinutes(place, name);
  const { all, on } = MEASURES[place];
  const sums = new Map<number, { all: number; on: number }>();
  for (const { at_ms, row } of data ?? []) {
    const sum = sums.get(at_ms) ?? { all: 0, on: 0 };
    if (row.measure === all) sum.all += row.events;
    if (row.measure === on) sum.on += row.events;
    sums.set(at_ms, sum);
  }
  const newest = Math.floor(dataUpdatedAt / 60000) * 60000;
  const minutes = Array.from({ length: 60 }, (_, i) => newest - (59 - i) * 60000);
  const most = Math.max(1, ...Array.from(sums.values(), (s) => Math.max(s.all, s.on)));
  const total = Array.from(sums.values()).reduce((t, s) => ({ all: t.all + s.all, on: t.on + s.on }), { all: 0, on: 0 });
  return (
    <figure>
      <svg viewBox="0 0 600 84" className="h-20 w-full" preserveAspectRatio="none" role="img" aria-label={`The last hour: ${count(total.all)} ${all}, ${count(total.on)} ${on}`}>
        {minutes.map((at, i) => {
          const sum = sums.get(at) ?? { all: 0, on: 0 };
          const high = (n: number) => (80 * n) / most;
          return (
            <g key={at}>
              <title>{`${clock(at)}: ${count(sum.all)} ${all}, ${count(sum.on)} ${on}`}</title>
              <rect x={i * 10} y={0} width={10} height={84} fill="transparent" />
              <rect x={i * 10 + 1} y={82 - high(sum.all)} width={8} height={high(sum.all)} fill="var(--removed)" opacity={0.35} />
              <rect x={i * 10 + 1} y={82 - high(sum.on)} width={8} height={high(sum.on)} fill="var(--goes-on)" />
            </g>
          );
        })}
        <line x1={0} x2={600} y1={83} y2={83} stroke="var(--line-strong)" />
      </svg>
      <figcaption className="flex justify-between text-xs text-soft">
        <span>an hour ago</span>
        <span>
          <span className="text-goes-on">■</span> {on} &ensp; <span className="text-removed opacity-60">■</span> {all}, at most {count(most)} a minute
        </span>
        <span>now</span>
      </figcaption>
    </figure>
  );
}
