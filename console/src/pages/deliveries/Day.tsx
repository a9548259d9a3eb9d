/** A destination's day: how many of its answers were good, and how long they took; the same numbers in a table for those who read. */
import { Suspense, lazy } from "react";

import { type AnswersThen, useDay } from "../../api/operate";
import { clock, count, share, utc } from "../../lib/format";
import { TableBeside } from "../../parts/TableBeside";

const Chart = lazy(() => import("../../parts/Chart"));

const STRETCH = 10 * 60_000;
const STRETCHES = 144;
/** In pixels. */
const HEIGHT = 84;

function milliseconds(ms: number): string {
  return ms < 1000 ? `${ms.toFixed(ms < 10 ? 1 : 0)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

/** As short as an axis has room for. */
const short = (ms: number) => (ms >= 1000 ? `${ms / 1000} s` : `${ms} ms`);

export function Day({ name, now }: { name: string; now: number }) {
  const { data } = useDay(name);
  if (data === undefined || data.length === 0) return <p className="text-sm text-soft max-xl:col-span-full">No answers yet since the service started.</p>;
  const until = Math.ceil(now / STRETCH) * STRETCH;
  const times = Array.from({ length: STRETCHES }, (_, i) => until - (STRETCHES - i) * STRETCH);
  const known = new Map(data.map((s): [number, AnswersThen] => [s.at_ms, s]));
  const [all, bad] = data.reduce(([a, b], s) => [a + s.good + s.bad, b + s.bad], [0, 0]);
  const slowest = Math.max(...data.map((s) => s.mean_ms));
  const says = `${count(all)} answers in the last day, ${share(all - bad, all)} of them good; at most ${milliseconds(slowest)} on average in ten minutes`;
  const failed = (s: AnswersThen | undefined) => (s === undefined || s.bad === 0 ? null : Math.max(0.08, s.bad / (s.good + s.bad)));
  const told = (i: number) => {
    const s = known.get(times[i] ?? 0);
    return s === undefined ? "" : `${clock(s.at_ms)}: ${count(s.good)} good, ${count(s.bad)} failed, ${milliseconds(s.mean_ms)} on average`;
  };
  return (
    <div className="max-xl:col-span-full">
      <Suspense fallback={<div style={{ height: HEIGHT }} />}>
        <Chart
          times={times}
          stretch={STRETCH}
          height={HEIGHT}
          says={says}
          told={told}
          written={short}
          series={[
            { colour: "goes-on", values: times.map((at) => known.get(at)?.mean_ms ?? null) },
            { colour: "fails", fromTop: true, values: times.map((at) => failed(known.get(at))) },
          ]}
        />
      </Suspense>
      <p className="text-xs text-soft">
        <span className="text-goes-on">■</span> how long an answer took &ensp; <span className="text-fails">■</span> from the top: the share that failed
      </p>
      <TableBeside
        label={`Answers of ${name}`}
        columns={["from", "good", "failed", "mean", "longest"]}
        rows={[...data].reverse().map((s) => ({
          key: s.at_ms,
          cells: [
            <time key="at" title={utc(s.at_ms)}>
              {clock(s.at_ms)}
            </time>,
            count(s.good),
            s.bad > 0 ? (
              <span key="bad" className="text-fails">
                {count(s.bad)}
              </span>
            ) : (
              "0"
            ),
            milliseconds(s.mean_ms),
            milliseconds(s.longest_ms),
          ],
        }))}
      />
    </div>
  );
}
