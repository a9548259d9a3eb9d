/** What is worth a thought: sentences that save something, or keep personal data from leaving, each with its measured effect. */
import { useNavigate } from "@tanstack/react-router";

import { type Suggestion, useChangeDraft, useDecline, usePlanDraft, useSuggestions } from "../../api/plan";
import { BUTTON } from "../../design/buttons";
import { bytes, count, money, share } from "../../lib/format";
import { Message } from "../../parts/Message";
import { Sentence } from "../../parts/Sentence";
import { PlanNav } from "./PlanNav";
import { partOf } from "./draft";

function Entry({ of, month, onTake, onDecline }: { of: Suggestion; month: boolean; onTake: () => void; onDecline: () => void }) {
  const { kind, name } = partOf(of.part);
  const saves = of.saves.bytes > 0;
  return (
    <li className="card grid grid-cols-[15rem_minmax(0,1fr)_auto] items-start gap-x-4 gap-y-1 p-4 max-md:grid-cols-1">
      <div className="tabular-nums">
        {of.money.filter((m) => m.amount >= 0.005).map((m) => (
          <p key={m.currency} className="text-lg font-semibold text-goes-on">
            {money(m.amount, m.currency)}
            {month && <span className="text-sm font-normal text-soft"> a month</span>}
          </p>
        ))}
        {saves ? (
          <p className="text-sm text-soft">
            {bytes(of.saves.bytes)}
            {of.saves.events > 0 ? `, ${count(of.saves.events)} events` : ""}
            {month ? " a month" : " of the sample"}; {share(of.share, 1)} of what the {kind} sends
          </p>
        ) : (
          <p className="font-medium text-fails">▲ personal data leaves</p>
        )}
      </div>
      <div className="min-w-0">
        <p>
          <Sentence text={of.step} />
        </p>
        <p className="text-sm text-soft">
          at the end of {kind} <strong className="font-medium text-ink">{name}</strong>; {of.reason}: {of.because.replaceAll("`", "")}
        </p>
      </div>
      <div className="flex gap-2">
        <button type="button" className={`${BUTTON} border-petal text-petal`} onClick={onTake} aria-label={`Add to the draft: ${of.step} at ${kind} ${name}`}>
          Add to the draft
        </button>
        <button type="button" className={BUTTON} onClick={onDecline} aria-label={`Decline: ${of.step} at ${kind} ${name}`}>
          Decline
        </button>
      </div>
    </li>
  );
}

export function SuggestionsPage() {
  const { data, error } = useSuggestions();
  // A draft is changed in the version that was looked at, so it is looked at here too.
  usePlanDraft();
  const change = useChangeDraft();
  const decline = useDecline();
  const navigate = useNavigate();
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-xl font-semibold">Plan</h1>
        <PlanNav />
        {data !== undefined && (
          <p className="num text-sm text-soft">
            Measured on {count(data.events)} events of the samples, against revision {data.revision}. None is ever applied by itself.
            {data.declined > 0 && ` ${data.declined} declined before ${data.declined === 1 ? "is" : "are"} left out.`}
          </p>
        )}
      </div>
      {(error ?? change.error) !== null && <Message tone="fails" title={(error ?? change.error)?.message ?? ""} />}
      {data === undefined && error === null && <Message title="Looking through the samples…">Each suggestion is tried before it is made.</Message>}
      {data?.suggestions.length === 0 && <Message title="There is nothing to suggest.">{data.events === 0 ? "The samples hold no events yet." : "No health checks, repeats, unread fields or personal data that would be worth a step were found in the samples."}</Message>}
      <ol aria-label="Suggestions" className="flex flex-col gap-3">
        {data?.suggestions.map((s) => (
          <Entry
            key={s.id}
            of={s}
            month={data.estimated_from_ms != null}
            onTake={() => change.mutate({ edits: [{ edit: "add_step", part: s.part, step: s.step }] }, { onSuccess: () => void navigate({ to: "/plan", search: { part: s.part } }) })}
            onDecline={() => decline.mutate(s.id)}
          />
        ))}
      </ol>
    </div>
  );
}
