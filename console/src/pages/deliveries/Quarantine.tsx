/** What could not be read, or was refused for good, by reason: looked at, mended, sent again. */
import { useState } from "react";

import { type QuarantineEntry, type ResentEvent, useQuarantine, useResent } from "../../api/client";
import { useResend } from "../../api/operate";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { bytes, clock, count, utc } from "../../lib/format";
import { Sentence } from "../../parts/Sentence";
import { SentenceField } from "../../parts/SentenceField";
import { WhyButton, WhyRefusedButton } from "../../parts/Why";

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

interface Reason {
  key: string;
  place: string;
  name: string;
  reason: string;
  entries: QuarantineEntry[];
}

/** Reasons that differ in numbers only are one. */
function byReason(entries: QuarantineEntry[]): Reason[] {
  const found = new Map<string, Reason>();
  for (const q of entries) {
    const key = `${q.place} ${q.name} ${q.reason.replaceAll(/\d+/g, "#")}`;
    const known = found.get(key);
    if (known === undefined) found.set(key, { key, place: q.place, name: q.name, reason: q.reason, entries: [q] });
    else known.entries.push(q);
  }
  return [...found.values()];
}

/** So many events of a reason are listed. */
const LISTED = 10;

function Entries({ of, onResend, pending }: { of: Reason; onResend: (ids: number[], steps: string[]) => void; pending: boolean }) {
  const refused = of.place === "destination";
  const [steps, setSteps] = useState<string[]>([]);
  const [writes, setWrites] = useState(false);
  const ids = of.entries.map((q) => q.id);
  return (
    <div className="mt-1 mb-2 rounded bg-raised p-3">
      {refused && (
        <div className="flex flex-col gap-2 border-b border-line pb-2 text-sm">
          <p className="text-soft">Sent again, an event stands as it did before the steps of {of.name}, which then run as they are now. Steps written here run first, to mend it.</p>
          <ol aria-label="Steps that mend">
            {steps.map((s, i) => (
              <li key={`${i} ${s}`} className="flex items-baseline gap-2">
                <Sentence text={s} />
                <button type="button" className={SMALL_BUTTON} aria-label={`Leave out: ${s}`} onClick={() => setSteps(steps.filter((_, at) => at !== i))}>
                  Leave out
                </button>
              </li>
            ))}
          </ol>
          {writes ? (
            <SentenceField
              kind="step"
              label="Step that mends"
              value=""
              point={undefined}
              placeholder="trim message to 8 KB"
              keep="Add"
              onKeep={(s) => {
                setSteps([...steps, s]);
                setWrites(false);
              }}
              onCancel={() => setWrites(false)}
            />
          ) : (
            <span className="flex gap-2">
              <button type="button" className={BUTTON} onClick={() => setWrites(true)}>
                Mend by a step
              </button>
              <button type="button" className={BUTTON} disabled={pending} onClick={() => onResend(ids, steps)}>
                {ids.length === 1 ? "Send it again" : `Send these ${count(ids.length)} again`}
              </button>
            </span>
          )}
        </div>
      )}
      <ol aria-label="Events">
        {of.entries.slice(0, LISTED).map((q) => (
          <li key={q.id} className="grid grid-cols-[5rem_minmax(0,1fr)_4rem_auto] items-baseline gap-3 border-b border-line py-1 text-sm last:border-b-0">
            <time className="num text-xs text-soft" title={utc(q.at_ms)}>
              {clock(q.at_ms)}
            </time>
            <code className="truncate font-mono text-xs" title={q.data}>
              {q.data}
            </code>
            <span className="num text-right text-xs text-soft">{bytes(q.size)}</span>
            <span className="flex gap-1.5">
              {refused ? <WhyRefusedButton id={q.id} /> : <WhyButton source={q.name} event={q.data} />}
              {refused && (
                <button type="button" className={SMALL_BUTTON} disabled={pending} onClick={() => onResend([q.id], steps)}>
                  Send again
                </button>
              )}
            </span>
          </li>
        ))}
      </ol>
      {of.entries.length > LISTED && <p className="pt-1 text-sm text-soft">and {count(of.entries.length - LISTED)} older ones</p>}
    </div>
  );
}

export function Quarantine() {
  const { data, error } = useQuarantine();
  const [open, setOpen] = useState<string | null>(null);
  const [runs, setRuns] = useState<number[]>([]);
  const [left, setLeft] = useState<string[]>([]);
  const resend = useResend((sent) => {
    if (sent.events + sent.removed > 0) setRuns((old) => [...old, sent.run]);
    setLeft(sent.left);
  });
  const reasons = byReason(data ?? []);
  const outcomes = runs.length > 0 || left.length > 0 || resend.error !== null;
  return (
    <section aria-labelledby="quarantine" className="card p-4">
      <h2 id="quarantine" className="pb-2 text-lg font-semibold">
        In quarantine
      </h2>
      {error !== null && <p className="text-sm text-soft">{error.status === 403 ? "Your grants do not let you look into quarantine." : error.message}</p>}
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
      {data?.length === 0 && <p className="text-sm text-soft">Nothing: every record could be read, and no destination has refused an event for good.</p>}
      <ol aria-label="Reasons">
        {reasons.map((r) => (
          <li key={r.key} className="border-t border-line py-1.5">
            <button type="button" aria-expanded={open === r.key} onClick={() => setOpen(open === r.key ? null : r.key)} className="grid w-full grid-cols-[4rem_12rem_minmax(0,1fr)] items-baseline gap-3 rounded text-left text-sm hover:bg-raised max-md:grid-cols-1">
              <span className="num text-right font-medium">{count(r.entries.length)}</span>
              <span>
                {r.place} {r.name}
              </span>
              <span className="text-fails">{r.reason}</span>
            </button>
            {open === r.key && <Entries of={r} pending={resend.isPending} onResend={(ids, steps) => resend.mutate({ ids, steps })} />}
          </li>
        ))}
      </ol>
    </section>
  );
}
