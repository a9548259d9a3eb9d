/** What passed in the last hour against the same hour yesterday and a week ago, once so much is known. */
import type { Volume, VolumeBefore } from "../../api/client";
import { count } from "../../lib/format";

/** A change by this factor, in either direction, stands out. */
const MUCH = 2;

/** How much more or less there is than then, in words. */
function change(now: number, then: number, when: string): string {
  if (then === 0) return now === 0 ? `nothing, as ${when}` : `nothing came ${when}`;
  const by = now / then;
  if (by >= 10) return `${count(by)} times as much as ${when}`;
  const percent = Math.round(100 * (by - 1));
  return percent === 0 ? `as much as ${when}` : `${percent > 0 ? "+" : "−"}${Math.abs(percent)} % on ${when}`;
}

function Against({ now, then, when }: { now: Volume; then: Volume; when: string }) {
  const much = then.bytes === 0 ? now.bytes > 0 : now.bytes >= MUCH * then.bytes || now.bytes * MUCH <= then.bytes;
  return (
    <span className={`num whitespace-nowrap ${much ? "font-semibold text-ink" : ""}`} title={`${count(then.events)} events, ${count(then.bytes)} bytes in the same hour ${when}`}>
      {change(now.bytes, then.bytes, when)}
    </span>
  );
}

export function Before({ before, brief = false }: { before: VolumeBefore | undefined; /** Only against yesterday. */ brief?: boolean }) {
  if (before === undefined) return null;
  const { now, yesterday, last_week: week } = before;
  if (brief) return yesterday == null ? null : <Against now={now} then={yesterday} when="yesterday" />;
  if (yesterday == null && week == null) return null;
  return (
    <p className="py-1 text-xs text-soft">
      <span title={`${count(now.events)} events, ${count(now.bytes)} bytes`}>Last hour:</span>{" "}
      {yesterday != null && <Against now={now} then={yesterday} when="yesterday" />}
      {yesterday != null && week != null && ", "}
      {week != null && <Against now={now} then={week} when="last week" />}
    </p>
  );
}
