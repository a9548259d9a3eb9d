/** A destination's day: how many of its answers were good, and how long they took; the same numbers in a table for those who read. */
import { type AnswersThen, useDay } from "../../api/operate";
import { clock, count, share } from "../../lib/format";

const STRETCH = 10 * 60_000;
const STRETCHES = 144;
const [WIDTH, HEIGHT] = [432, 36];

function milliseconds(ms: number): string {
  return ms < 1000 ? `${ms.toFixed(ms < 10 ? 1 : 0)} ms` : `${(ms / 1000).toFixed(1)} s`;
}

function Drawing({ day, until }: { day: AnswersThen[]; until: number }) {
  const from = until - STRETCHES * STRETCH;
  const slowest = Math.max(1, ...day.map((s) => s.mean_ms));
  const [all, bad] = day.reduce(([a, b], s) => [a + s.good + s.bad, b + s.bad], [0, 0]);
  const says = `${count(all)} answers in the last day, ${share(all - bad, all)} of them good; at most ${milliseconds(slowest)} on average in ten minutes`;
  const wide = WIDTH / STRETCHES;
  return (
    <svg role="img" aria-label={says} viewBox={`0 0 ${WIDTH} ${HEIGHT}`} preserveAspectRatio="none" className="h-9 w-full bg-raised">
      <title>{says}</title>
      {day.map((s) => {
        const x = ((s.at_ms - from) / STRETCH) * wide;
        const of = s.good + s.bad;
        const tall = Math.max(2, (s.mean_ms / slowest) * HEIGHT);
        const failed = (s.bad / of) * HEIGHT;
        return (
          <g key={s.at_ms}>
            <rect x={x} y={HEIGHT - tall} width={wide - 0.4} height={tall} className="fill-goes-on" />
            {s.bad > 0 && <rect x={x} y={0} width={wide - 0.4} height={Math.max(3, failed)} className="fill-fails" />}
          </g>
        );
      })}
    </svg>
  );
}

export function Day({ name, now }: { name: string; now: number }) {
  const { data } = useDay(name);
  if (data === undefined || data.length === 0) return <p className="text-sm text-soft">No answers yet since the service started.</p>;
  const until = Math.ceil(now / STRETCH) * STRETCH;
  return (
    <div>
      <Drawing day={data} until={until} />
      <p className="flex justify-between text-xs text-soft">
        <span>a day ago</span>
        <span>height: how long an answer took; from the top: failed</span>
        <span>now</span>
      </p>
      <details className="text-sm">
        <summary className="cursor-pointer text-soft">As a table</summary>
        <div className="max-h-48 overflow-y-auto" tabIndex={0} aria-label={`Answers of ${name}`}>
          <table className="w-full text-xs">
            <thead>
              <tr className="text-right text-soft">
                <th className="text-left font-normal">from</th>
                <th className="font-normal">good</th>
                <th className="font-normal">failed</th>
                <th className="font-normal">mean</th>
                <th className="font-normal">longest</th>
              </tr>
            </thead>
            <tbody className="num text-right">
              {[...data].reverse().map((s) => (
                <tr key={s.at_ms} className="border-t border-line">
                  <th scope="row" className="text-left font-normal">
                    {clock(s.at_ms)}
                  </th>
                  <td>{count(s.good)}</td>
                  <td className={s.bad > 0 ? "text-fails" : ""}>{count(s.bad)}</td>
                  <td>{milliseconds(s.mean_ms)}</td>
                  <td>{milliseconds(s.longest_ms)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </details>
    </div>
  );
}
