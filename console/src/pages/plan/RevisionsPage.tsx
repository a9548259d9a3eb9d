/** What ran when, and did it do what was predicted? Any two can be compared, and any one applied again. */
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";

import { type RevisionDetail, useCheck, useRevert, useRevision, useRevisions } from "../../api/plan";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { age, bytes, clock, count, utc } from "../../lib/format";
import { Message } from "../../parts/Message";
import { Change, Months } from "../../parts/Months";
import { Sheet } from "../../parts/Sheet";
import { Unified } from "../../parts/Unified";
import { PlanNav } from "./PlanNav";

function When({ ms }: { ms: number }) {
  const today = new Date(ms).toDateString() === new Date().toDateString();
  return (
    <time className="num" title={utc(ms)}>
      {today ? clock(ms) : `${new Date(ms).toLocaleDateString()} ${clock(ms)}`}
    </time>
  );
}

/** What was predicted of each destination, and what really came, in the proportion of a month. */
function Outcome({ of }: { of: RevisionDetail }) {
  const { forecast, outcome = [], outcome_of_ms: long } = of;
  if (forecast == null) return <p className="text-sm text-soft">Nothing was predicted of it: no events were in the samples when it was applied.</p>;
  if (forecast.estimated_from_ms == null) return <p className="text-sm text-soft">Too little had flowed when it was applied to predict a month.</p>;
  if (long == null) return <Months destinations={forecast.destinations} from={forecast.estimated_from_ms} />;
  return (
    <table className="w-full text-sm">
      <caption className="pb-1 text-left text-soft">A month as it was predicted, and in the proportion of what really came in {age(long)}</caption>
      <thead>
        <tr className="text-left text-xs text-soft">
          <th className="font-normal">destination</th>
          <th className="text-right font-normal">before</th>
          <th className="text-right font-normal">predicted</th>
          <th className="text-right font-normal">real</th>
          <th className="text-right font-normal">off by</th>
        </tr>
      </thead>
      <tbody className="num">
        {forecast.destinations.map((d) => {
          const real = outcome.find((o) => o.name === d.name)?.month.bytes ?? 0;
          return (
            <tr key={d.name} className="border-t border-line">
              <th scope="row" className="py-1 text-left font-medium">
                {d.name}
              </th>
              <td className="text-right">{bytes(d.now.bytes)}</td>
              <td className="text-right">{bytes(d.then.bytes)}</td>
              <td className="text-right">{bytes(real)}</td>
              <td className="text-right">
                <Change now={d.then.bytes} then={real} />
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Revert({ of, active }: { of: RevisionDetail; active: number }) {
  const [open, setOpen] = useState(false);
  return (
    <Sheet button="Apply it again…" className={BUTTON} title={`Apply revision ${of.number} again`} says="It becomes the next revision; nothing of the history is lost." open={open} onOpenChange={setOpen}>
      <Reverting of={of} active={active} onDone={() => setOpen(false)} />
    </Sheet>
  );
}

function Reverting({ of, active, onDone }: { of: RevisionDetail; active: number; onDone: () => void }) {
  const check = useCheck(of.text);
  const revert = useRevert();
  const navigate = useNavigate();
  const [why, setWhy] = useState("");
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        revert.mutate(
          { number: of.number, why, expected: active },
          {
            onSuccess: ({ revision }) => {
              onDone();
              void navigate({ to: "/plan/revisions", search: { number: revision } });
            },
          },
        );
      }}
    >
      {check.data === undefined ? <p className="text-sm text-soft">Comparing it with the active plan…</p> : check.data.difference === "" ? <p className="text-sm">It is the same as the active plan.</p> : <Unified text={check.data.difference} label="What it would change" />}
      {check.data?.forecast != null && <Months destinations={check.data.forecast.destinations} from={check.data.forecast.estimated_from_ms} />}
      <label className="flex flex-col text-sm text-soft">
        Why, for those who look at it later
        <input value={why} onChange={(e) => setWhy(e.target.value)} maxLength={500} className={FIELD} />
      </label>
      {(revert.error ?? check.error) !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {(revert.error ?? check.error)?.message}
        </p>
      )}
      <button type="submit" className={`${BUTTON} self-start border-petal font-semibold text-petal`} disabled={revert.isPending || check.data?.good !== true}>
        Apply revision {of.number} again
      </button>
    </form>
  );
}

export function RevisionsPage() {
  const { number, against } = useSearch({ from: "/plan/revisions" });
  const navigate = useNavigate();
  const { data, error } = useRevisions();
  const active = data?.find((r) => r.running)?.number;
  const chosen = number ?? active ?? null;
  const detail = useRevision(chosen, against);
  const open = (search: { number?: number; against?: number }) => void navigate({ to: "/plan/revisions", search, replace: true });
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-xl font-semibold">Plan</h1>
        <PlanNav />
      </div>
      {error !== null && <Message tone="fails" title={`The revisions cannot be shown: ${error.message}.`} />}
      {data?.length === 0 && <Message title="No plan was applied yet." />}
      <div className="grid grid-cols-[minmax(0,20rem)_minmax(0,1fr)] gap-5 max-md:grid-cols-1">
        <ol aria-label="Revisions" className="flex max-h-[80vh] flex-col overflow-y-auto" tabIndex={0}>
          {data?.map((r) => (
            <li key={r.number} className="border-t border-line first:border-t-0">
              <button
                type="button"
                aria-current={r.number === chosen ? "true" : undefined}
                onClick={() => open({ number: r.number })}
                className="grid w-full grid-cols-[3rem_minmax(0,1fr)] gap-x-2 rounded px-2 py-1.5 text-left text-sm hover:bg-raised aria-[current=true]:bg-petal-wash"
              >
                <span className="num text-lg font-semibold">{r.number}</span>
                <span className="min-w-0">
                  <span className="block break-words">{r.why === "" ? <span className="text-soft">no reason was given</span> : r.why}</span>
                  <span className="num block text-xs text-soft">
                    <When ms={r.at_ms} /> by {r.who}; <span className="text-goes-on">+{count(r.lines_added)}</span> <span className="text-removed">−{count(r.lines_removed)}</span> lines
                    {r.running && <span className="ml-2 font-medium text-goes-on">● active</span>}
                  </span>
                </span>
              </button>
            </li>
          ))}
        </ol>
        {detail.data !== undefined && active !== undefined && (
          <section aria-label={`Revision ${detail.data.number}`} className="card flex min-w-0 flex-col gap-4 self-start p-4">
            <div className="flex flex-wrap items-center gap-3">
              <h2 className="text-lg font-semibold">Revision {detail.data.number}</h2>
              <label className="flex items-center gap-2 text-sm text-soft">
                compared with
                <select value={against ?? ""} onChange={(e) => open({ number: detail.data.number, ...(e.target.value !== "" && { against: Number(e.target.value) }) })} className={FIELD}>
                  <option value="">the one before</option>
                  {data?.filter((r) => r.number !== detail.data.number).map((r) => (
                    <option key={r.number} value={r.number}>
                      revision {r.number}
                    </option>
                  ))}
                </select>
              </label>
              {detail.data.number !== active && (
                <span className="ml-auto">
                  <Revert key={detail.data.number} of={detail.data} active={active} />
                </span>
              )}
            </div>
            <Outcome of={detail.data} />
            {detail.data.difference === "" ? (
              <p className="text-sm text-soft">It is the same as {against === undefined ? "the one before" : `revision ${against}`}.</p>
            ) : (
              <Unified text={detail.data.difference} label={`The difference from ${against === undefined ? "the one before" : `revision ${against}`}`} />
            )}
          </section>
        )}
      </div>
    </div>
  );
}
