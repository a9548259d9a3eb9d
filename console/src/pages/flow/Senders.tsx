/** Of a source: what is wrong with its senders and what helps, and lines to paste to send to it. */
import { type Source, useSources } from "../../api/client";
import { useOperateSource, useProbe } from "../../api/operate";
import { BUTTON } from "../../design/buttons";
import { age, bytes, count, share } from "../../lib/format";
import { NextButton } from "../../parts/Next";
import { WhyButton } from "../../parts/Why";
import { Lines } from "../sources/Lines";
import { Found } from "./Operate";

/** How old an event is that came, in words. */
export function ageOfEvent(ms: number): string {
  const span = (ms: number) => (ms < 1000 ? `${ms} ms` : age(ms));
  return ms < 0 ? `${span(-ms)} in the future` : `${span(ms)} old`;
}

/** How old events are when they come. */
export function fresh(source: Source): string {
  const f = source.freshness;
  if (f === null || f === undefined) return "no event has a time";
  return `median timestamp ${ageOfEvent(f.half_ms)}, p99 ${ageOfEvent(f.nearly_all_ms)}`;
}

export function Actions({ source, told = true }: { source: Source; /** Say how fresh and readable it is as well. */ told?: boolean }) {
  const operate = useOperateSource(source.name);
  const probe = useProbe("sources", source.name);
  const paused = source.state === "paused";
  const error = operate.error ?? probe.error;
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
      <button type="button" className={BUTTON} disabled={probe.isPending} onClick={() => probe.mutate(undefined)}>
        {probe.isPending ? "Testing…" : "Test"}
      </button>
      <button type="button" className={BUTTON} disabled={operate.isPending} onClick={() => operate.mutate(paused ? "resume" : "pause")}>
        {paused ? "Resume" : "Pause"}
      </button>
      <NextButton source={source.name} className={BUTTON} />
      <WhyButton source={source.name} event='{"message":"hello"}' className={BUTTON} />
      {told && (
        <span className="num text-sm text-soft">
          {fresh(source)}
          {source.unreadable.events > 0 && `; ${share(source.unreadable.events, source.received.events)} unreadable`}
        </span>
      )}
      {error !== null && (
        <span role="alert" className="text-sm text-fails">
          {error.message}
        </span>
      )}
      {probe.data !== undefined && probe.data !== null && <Found probe={probe.data} />}
    </div>
  );
}

export function Files({ source }: { source: Source }) {
  if (source.files.length === 0) return null;
  return (
    <ul aria-label="Files" className="flex flex-col gap-0.5">
      {source.files.slice(0, 50).map((f) => (
        <li key={f.path} className="flex items-baseline gap-3">
          <code className="min-w-0 truncate font-mono text-xs" title={f.path}>
            {f.path}
          </code>
          <span className="num text-xs text-soft">{bytes(f.size)}</span>
          <span className={["current", "behind", "copy"].includes(f.state) ? "text-soft" : "text-fails"}>{f.says}</span>
        </li>
      ))}
      {source.file_count > 50 && <li className="text-soft">and {count(source.file_count - 50)} more</li>}
    </ul>
  );
}

/** What went wrong, and what helps. */
export function Troubles({ source, now }: { source: Source; now: number }) {
  return source.troubles.map((t) => (
    <p key={`${t.what} ${t.says}`} className="text-sm text-fails">
      <span aria-hidden="true">▲</span> {t.says}
      {typeof t.from === "string" && `, from ${t.from}`} ({t.times === 1 ? "once" : `${count(t.times)} times, last`} {age(now - t.last_ms)} ago).{" "}
      <span className="text-ink">
        {t.remedy.split("`").map((part, i) => (i % 2 === 1 ? <code key={i} className="font-mono text-xs">{part}</code> : part))}
      </span>
    </p>
  ));
}

export function Senders({ name, now }: { name: string; now: number }) {
  const sources = useSources();
  const source = sources.data?.find((s) => s.name === name);
  if (source === undefined) return null;
  return (
    <div className="flex max-h-36 shrink-0 flex-col gap-1.5 overflow-y-auto text-sm">
      <p className="text-soft">
        {source.says}
        {typeof source.last_event_ms === "number" && `; the last event arrived ${age(now - source.last_event_ms)} ago`}
        {typeof source.last_from === "string" && ` from ${source.last_from}`}
        {source.connections > 0 && (source.connections === 1 ? "; one connection" : `; ${count(source.connections)} connections`)}
      </p>
      <Actions source={source} />
      <Troubles source={source} now={now} />
      <Files source={source} />
      <Lines source={source} />
    </div>
  );
}
