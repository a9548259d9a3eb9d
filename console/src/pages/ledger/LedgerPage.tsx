/** Where did every event go? An account that adds up. */
import { ToggleGroup } from "radix-ui";
import { useState } from "react";

import { type LedgerAnswer, type ResentEvent, useLedger, useQuarantine, useResent } from "../../api/client";
import { useResend } from "../../api/operate";
import { SMALL_BUTTON } from "../../design/buttons";
import { bytes, clock, count, utc } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { Message } from "../../parts/Message";
import { Account } from "./Account";
import { WhyButton, WhyRefusedButton } from "../../parts/Why";

const SPANS = [
  { value: "all", label: "Since the beginning", minutes: null },
  { value: "60", label: "Last hour", minutes: 60 },
  { value: "5", label: "Last 5 minutes", minutes: 5 },
];

function Verdict({ ledger }: { ledger: LedgerAnswer }) {
  const off = ledger.equations.filter((e) => !e.holds);
  if (off.length === 0) {
    return (
      <p role="status" className="text-goes-on">
        <span className="font-semibold">✓ Balanced.</span> All {ledger.equations.length} equations hold since the beginning, to the event and to the byte.
      </p>
    );
  }
  return (
    <div role="alert" className="text-fails">
      <p className="font-semibold">✗ Not balanced.</p>
      <ul className="text-sm">
        {off.map((e) => (
          <li key={`${e.place} ${e.name} ${e.says}`}>
            {e.place} {e.name}: {e.says}: off by {count(e.left_events - e.right_events)} events and {count(e.left_bytes - e.right_bytes)} bytes
          </li>
        ))}
      </ul>
    </div>
  );
}

const BECAME: Record<ResentEvent["state"], { says: (e: ResentEvent) => string; colour: string }> = {
  waiting: { says: (e) => `queued for ${e.destination}`, colour: "text-waits" },
  delivered: { says: (e) => `delivered to ${e.destination}`, colour: "text-goes-on" },
  refused: { says: (e) => `refused again by ${e.destination}${e.again == null ? "" : `, now number ${e.again}`}: ${e.detail}`, colour: "text-fails" },
  removed: { says: (e) => `removed by ${e.detail}`, colour: "text-removed" },
  discarded: { says: (e) => `discarded${e.detail === "" ? "" : `: ${e.detail}`}`, colour: "text-fails" },
  unclear: { says: (e) => `unclear: ${e.detail}`, colour: "text-waits" },
};

/** What became of the events of one request to send again. */
function Outcome({ run }: { run: number }) {
  const { data } = useResent(run);
  return (
    <>
      {(data ?? []).map((e) => (
        <li key={e.id}>
          Event {e.id}: <span className={BECAME[e.state].colour}>{BECAME[e.state].says(e)}</span>
        </li>
      ))}
    </>
  );
}

function Quarantine() {
  const { data } = useQuarantine();
  const [runs, setRuns] = useState<number[]>([]);
  const [left, setLeft] = useState<string[]>([]);
  const resend = useResend((sent) => {
    if (sent.events + sent.removed > 0) setRuns((old) => [...old, sent.run]);
    setLeft(sent.left);
  });
  const outcomes = runs.length > 0 || left.length > 0 || resend.error !== null;
  if (data === undefined || (data.length === 0 && !outcomes)) return null;
  return (
    <section aria-labelledby="quarantine" className="mt-8">
      <h2 id="quarantine" className="pb-2 text-lg font-semibold">
        In quarantine, newest first
      </h2>
      {outcomes && (
        <ul aria-label="Sent again" aria-live="polite" className="pb-2 text-sm">
          {runs.map((run) => (
            <Outcome key={run} run={run} />
          ))}
          {left.map((why) => (
            <li key={why} className="text-waits">
              Not sent again: {why}
            </li>
          ))}
          {resend.error !== null && <li className="text-fails">▲ {resend.error.message}</li>}
        </ul>
      )}
      <div className="card overflow-x-auto">
        <table className="w-full text-sm">
          <thead>
            <tr className="text-left text-soft">
              {["when", "where", "why", "begins"].map((h) => (
                <th key={h} scope="col" className="px-3 py-2 font-medium">
                  {h}
                </th>
              ))}
              <th scope="col" className="px-3 py-2 text-right font-medium">
                size
              </th>
              <th scope="col">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {data.map((q) => (
              <tr key={q.id} className="border-t border-line align-baseline">
                <td className="num px-3 py-1.5 text-soft" title={utc(q.at_ms)}>
                  {clock(q.at_ms)}
                </td>
                <td className="px-3 py-1.5 whitespace-nowrap">
                  {q.place} {q.name}
                </td>
                <td className="px-3 py-1.5">{q.reason}</td>
                <td className="max-w-96 truncate px-3 py-1.5 font-mono text-xs" title={q.data}>
                  {q.data}
                </td>
                <td className="num px-3 py-1.5 text-right">{bytes(q.size)}</td>
                <td className="px-3 py-1 text-right whitespace-nowrap">
                  {q.place === "source" && <WhyButton source={q.name} event={q.data} />}
                  {q.place === "destination" && <WhyRefusedButton id={q.id} />}
                  {q.place === "destination" && (
                    <button
                      type="button"
                      className={`${SMALL_BUTTON} ml-1.5`}
                      disabled={resend.isPending}
                      onClick={() => resend.mutate([q.id])}
                    >
                      Send again
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

export function LedgerPage() {
  const { frozen } = useFrozen();
  const [span, setSpan] = useState("all");
  const minutes = SPANS.find((s) => s.value === span)?.minutes ?? null;
  const { data: ledger, error } = useLedger(minutes, frozen);
  if (ledger === undefined) {
    return error === null ? <Message title="Loading…" /> : <Message tone="fails" title={`The ledger cannot be shown: ${error.message}.`} />;
  }
  const names = (place: string) => [...new Set(ledger.rows.filter((r) => r.place === place).map((r) => r.name))].sort();
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-2 pb-4">
        <h1 className="text-xl font-semibold">Ledger</h1>
        <Verdict ledger={ledger} />
        {(ledger.caveats ?? []).map((caveat) => (
          <p key={caveat} className="text-sm text-waits">
            ▲ {caveat.replaceAll("`", "").replace(/^./, (c) => c.toUpperCase())}.
          </p>
        ))}
        <ToggleGroup.Root type="single" value={span} onValueChange={(v) => v !== "" && setSpan(v)} aria-label="Span of time" className="ml-auto flex overflow-hidden rounded border border-line text-sm">
          {SPANS.map((s) => (
            <ToggleGroup.Item key={s.value} value={s.value} className="px-2.5 py-1 text-soft data-[state=on]:bg-petal-wash data-[state=on]:font-medium data-[state=on]:text-petal">
              {s.label}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
      </div>
      {ledger.rows.length === 0 ? (
        <Message title="Nothing was counted in this period.">{span === "all" ? "The ledger begins with the first event." : "Choose a longer span."}</Message>
      ) : (
        <div className="grid grid-cols-3 items-start gap-5 max-lg:grid-cols-1">
          {(["source", "route", "destination"] as const).map((place) => (
            <section key={place} aria-label={`${place}s`} className="flex flex-col gap-4">
              {names(place).map((name) => (
                <Account key={name} place={place} name={name} ledger={ledger} whole={span === "all"} />
              ))}
            </section>
          ))}
        </div>
      )}
      <Quarantine />
    </>
  );
}
