/** What can be done to a destination: test it, hold its events back, let go what waits. */
import { AlertDialog } from "radix-ui";

import { type EventAges, type FlowDestination, useFlow } from "../../api/client";
import { type Probe, useOperate, useProbe } from "../../api/operate";
import { BUTTON } from "../../design/buttons";
import { age, bytes, count } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";

function Purge({ destination: d, purge }: { destination: FlowDestination; purge: () => void }) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger className={BUTTON} disabled={d.waiting_events === 0}>
        Empty…
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-20 bg-ink/30" />
        <AlertDialog.Content className="card fixed top-1/3 left-1/2 z-30 w-[28rem] max-w-[92vw] -translate-x-1/2 p-5">
          <AlertDialog.Title className="font-semibold">Let go what waits for {d.name}?</AlertDialog.Title>
          <AlertDialog.Description className="mt-1 text-sm text-soft">
            {count(d.waiting_events)} events ({bytes(d.waiting_bytes)}) will never be delivered. The ledger counts them as discarded.
          </AlertDialog.Description>
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel className={BUTTON}>Keep them</AlertDialog.Cancel>
            <AlertDialog.Action className={`${BUTTON} border-fails text-fails`} onClick={purge}>
              Let them go
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

export function Found({ probe }: { probe: Probe }) {
  return (
    <ol aria-label="What was found" className="flex flex-wrap gap-x-4 gap-y-0.5 text-sm">
      {probe.steps.map((s, i) => (
        <li key={`${i} ${s.step}`} className={s.good ? "text-goes-on" : "font-medium text-fails"}>
          {s.good ? "✓" : "✗"} {s.step} <span className="num text-soft">{s.ms.toFixed(0)} ms</span> <span className={s.good ? "text-soft" : ""}>{s.says}</span>
        </li>
      ))}
    </ol>
  );
}

export function Operate({ name }: { name: string }) {
  const { frozen } = useFrozen();
  const { data } = useFlow(frozen);
  const operate = useOperate(name);
  const probe = useProbe("destinations", name);
  const d = data?.destinations.find((x) => x.name === name);
  if (d === undefined) return null;
  const { answers } = d.health;
  const paused = d.health.state === "paused";
  const error = operate.error ?? probe.error;
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
      <button type="button" className={BUTTON} disabled={probe.isPending} onClick={() => probe.mutate(undefined)}>
        {probe.isPending ? "Testing…" : "Test"}
      </button>
      <button type="button" className={BUTTON} disabled={operate.isPending} onClick={() => operate.mutate(paused ? "resume" : "pause")}>
        {paused ? "Resume" : "Pause"}
      </button>
      <Purge destination={d} purge={() => operate.mutate("purge")} />
      {answers.count > 0 && (
        <span className="tabular-nums text-sm text-soft" title={`the last ${count(answers.count)} answers`}>
          {(answers.good * 100).toFixed(0)} % accepted; response time p50 {answers.p50_ms.toFixed(0)} ms, p90 {answers.p90_ms.toFixed(0)} ms, p99 {answers.p99_ms.toFixed(0)} ms
        </span>
      )}
      {d.health.event_ages !== undefined && d.health.event_ages.events > 0 && <Fresh of={d.health.event_ages} />}
      {error !== null && (
        <span role="alert" className="text-sm text-fails">
          {error.message}
        </span>
      )}
      {probe.data !== undefined && probe.data !== null && <Found probe={probe.data} />}
    </div>
  );
}

/** How old an event was, as finely as it is known. */
const lag = (ms: number) => (ms < 1_000 ? `${ms.toFixed(0)} ms` : ms < 10_000 ? `${(ms / 1_000).toFixed(1)} s` : age(ms));

/** How long events take from their own time to the destination's acceptance, and how much of its promise is used. */
function Fresh({ of }: { of: EventAges }) {
  const { promise } = of;
  const look = promise == null ? "" : promise.used_percent >= 100 ? "text-fails" : promise.used_percent >= 80 ? "text-waits" : "text-goes-on";
  return (
    <span className="tabular-nums text-sm text-soft" title={`from their own time, of ${count(of.events)} events accepted in the last hour`}>
      events are accepted after p50 {lag(of.p50_ms)}, p90 {lag(of.p90_ms)}, p99 {lag(of.p99_ms)}
      {promise != null && (
        <>
          ; promised: {promise.percent} % within {lag(promise.within_ms)},{" "}
          <span className={`font-medium ${look}`}>
            {promise.used_percent >= 100 ? "▲" : "✓"} {promise.used_percent} % of what may be late was
          </span>
        </>
      )}
    </span>
  );
}
