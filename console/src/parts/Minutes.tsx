/** The last hour of a source, route or destination: what went on and what was removed, minute by minute. */
import { Suspense, lazy } from "react";

import { useMinutes } from "../api/client";
import { clock, count, utc } from "../lib/format";
import { TableBeside } from "./TableBeside";

const Chart = lazy(() => import("./Chart"));

const MEASURES = {
  source: { all: "received", on: "passed" },
  route: { all: "taken", on: "out" },
  destination: { all: "offered", on: "delivered" },
} as const;

const MINUTE = 60_000;
const MINUTES = 60;
/** In pixels. */
const HEIGHT = 120;

/** As short as an axis has room for. */
const short = (n: number) => (n >= 1e6 ? `${n / 1e6} M` : n >= 1000 ? `${n / 1000} k` : String(n));

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
  const newest = Math.floor(dataUpdatedAt / MINUTE) * MINUTE;
  const minutes = Array.from({ length: MINUTES }, (_, i) => newest - (MINUTES - 1 - i) * MINUTE);
  const at = (minute: number) => sums.get(minute) ?? { all: 0, on: 0 };
  const total = minutes.map(at).reduce((t, s) => ({ all: t.all + s.all, on: t.on + s.on }), { all: 0, on: 0 });
  const says = `The last hour: ${count(total.all)} ${all}, ${count(total.on)} ${on}`;
  return (
    <figure>
      <Suspense fallback={<div style={{ height: HEIGHT }} />}>
        <Chart
          times={minutes}
          stretch={MINUTE}
          height={HEIGHT}
          says={says}
          written={short}
          told={(i) => {
            const minute = minutes[i] ?? newest;
            return `${clock(minute)}: ${count(at(minute).all)} ${all}, ${count(at(minute).on)} ${on}`;
          }}
          series={[
            { colour: "removed", faint: true, values: minutes.map((m) => at(m).all) },
            { colour: "goes-on", values: minutes.map((m) => at(m).on) },
          ]}
        />
      </Suspense>
      <figcaption className="text-xs text-soft">
        Events a minute: <span className="text-goes-on">■</span> {on} &ensp; <span className="text-removed opacity-60">■</span> {all}
      </figcaption>
      <TableBeside
        label={`The last hour of ${place} ${name}`}
        columns={["minute", all, on]}
        rows={[...minutes]
          .reverse()
          .filter((m) => sums.has(m))
          .map((m) => ({
            key: m,
            cells: [
              <time key="at" title={utc(m)}>
                {clock(m)}
              </time>,
              count(at(m).all),
              count(at(m).on),
            ],
          }))}
      />
    </figure>
  );
}
