/** What is wrong, since when, who knows, and was it told? */
import { Link } from "@tanstack/react-router";
import type { ReactNode } from "react";

import { type AlertNotice, type AlertState, useAcknowledge, useAlerts, useSilence, useTryAlert } from "../../api/alerts";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { age, count, utc } from "../../lib/format";
import { useMay } from "../../lib/grants";
import { Message } from "../../parts/Message";
import { Sentence } from "../../parts/Sentence";

/** How each state looks; those that are on stand first. */
const LOOK = {
  on: { mark: "▲", word: "on", colour: "text-fails", rank: 0 },
  rising: { mark: "◐", word: "rising", colour: "text-waits", rank: 1 },
  quiet: { mark: "○", word: "quiet", colour: "text-soft", rank: 2 },
} as const;
const SILENCES = [
  { minutes: 60, says: "1 hour" },
  { minutes: 480, says: "8 hours" },
  { minutes: 1440, says: "1 day" },
  { minutes: 10_080, says: "7 days" },
];
const TURNS: Record<string, { says: string; colour: string }> = {
  began: { says: "began", colour: "text-fails" },
  again: { says: "goes on", colour: "text-fails" },
  over: { says: "is over", colour: "text-goes-on" },
};

/** A moment in the person's zone, by day and minute. */
const moment = (ms: number) => new Date(ms).toLocaleString(undefined, { weekday: "short", hour: "2-digit", minute: "2-digit" });

/** Where it stands in the plan: a budget's alerts are those of the budget. */
function partOf(alert: AlertState): string {
  const budget = /^(?:forecast of )?budget:([A-Za-z0-9_-]+) /.exec(alert.when)?.[1];
  const isOfBudget = budget !== undefined && /^(\d+|forecast)$/.test(alert.name.slice(budget.length + 1)) && alert.name.startsWith(`${budget}-`);
  return isOfBudget ? `budget:${budget}` : `alert:${alert.name}`;
}

/** What is done about an alert, and when it would have been on in the last day. */
function Row({ alert, children }: { alert: AlertState; children: ReactNode }) {
  const tried = useTryAlert(alert);
  const past = tried.data;
  // Only volumes are kept of the past.
  const isVolume = /^(events|bytes|metric) /.test(alert.when);
  const width = past === undefined ? 1 : past.to_ms - past.from_ms;
  return (
    <div className="text-sm">
      <div className="flex flex-wrap items-center gap-2 pt-1">
        {children}
        {isVolume && (
          <button type="button" className={BUTTON} onClick={() => tried.mutate(1440)}>
            Try it on the last day
          </button>
        )}
      </div>
      {tried.error !== null && <p role="alert" className="pt-1 text-fails">▲ {tried.error.message}</p>}
      {past !== undefined && (
        <div role="status" className="pt-2">
          <p>
            {past.stretches.length === 0 ? "It would not have been on in the last day." : `It would have been on ${count(past.stretches.length)} ${past.stretches.length === 1 ? "time" : "times"} in the last day.`}
            {past.begins_ms != null && <span className="text-soft"> The ledger begins {age(past.to_ms - past.begins_ms)} ago; of the time before, nothing can be said.</span>}
          </p>
          <svg role="img" aria-label={past.stretches.map((s) => `from ${moment(s.from_ms)} for ${age((s.until_ms ?? past.to_ms) - s.from_ms)}`).join("; ") || "never on"} viewBox="0 0 1000 12" preserveAspectRatio="none" className="mt-1 block h-3 w-full max-w-xl rounded bg-raised">
            {past.stretches.map((s) => (
              <rect key={s.from_ms} x={(1000 * (s.from_ms - past.from_ms)) / width} width={Math.max(2, (1000 * ((s.until_ms ?? past.to_ms) - s.from_ms)) / width)} y="0" height="12" className="fill-fails" />
            ))}
          </svg>
          <ul className="pt-1">
            {past.stretches.slice(-5).map((s) => (
              <li key={s.from_ms}>
                <span className="num text-soft" title={utc(s.from_ms)}>
                  {moment(s.from_ms)}, {s.until_ms == null ? "still" : `for ${age(s.until_ms - s.from_ms)}`}
                </span>{" "}
                {s.says}
              </li>
            ))}
          </ul>
        </div>
      )}
    </div>
  );
}

function Card({ alert, now, may }: { alert: AlertState; now: number; may: boolean }) {
  const look = LOOK[alert.phase];
  const acknowledge = useAcknowledge(alert.name);
  const silence = useSilence(alert.name);
  const wrong = acknowledge.error ?? silence.error;
  return (
    <article aria-label={`Alert ${alert.name}`} className={`card flex min-w-0 flex-col gap-1.5 p-4 ${alert.phase === "on" ? "border-fails" : ""}`}>
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-lg font-semibold">{alert.name}</h2>
        <span className={`${look.colour} text-sm font-medium`}>
          <span aria-hidden="true">{look.mark}</span> {look.word}
          {alert.since_ms != null && (
            <span className="num font-normal" title={`since ${utc(alert.since_ms)}`}>
              {" "}
              for {age(now - alert.since_ms)}
            </span>
          )}
        </span>
        <span className="text-sm text-soft">{alert.severity}</span>
        <Link to="/plan" search={{ part: partOf(alert) }} className="text-sm text-petal underline" aria-label={`${alert.name} in the plan`}>
          in the plan
        </Link>
      </div>
      <p className="first-letter:uppercase">{alert.says ?? "Nothing can be said of it yet."}</p>
      <p className="text-sm text-soft">
        on when <Sentence text={alert.when} condition />
        {alert.lasting_ms > 0 && ` for ${age(alert.lasting_ms)}`}
        {alert.until != null && (
          <>
            , until <Sentence text={alert.until} condition />
          </>
        )}
      </p>
      {alert.advice != null && <p className={`text-sm ${alert.phase === "on" ? "font-medium" : "text-soft"}`}>{alert.advice}</p>}
      {alert.acknowledged_by != null && <p className="text-sm text-soft">Acknowledged by {alert.acknowledged_by}: it is not told again while it lasts.</p>}
      {alert.silence != null && (
        <p className="text-sm text-waits">
          Silenced by {alert.silence.who} for {age(alert.silence.until_ms - now)} more: nobody is told.
        </p>
      )}
      <Row alert={alert}>
        {may && (
          <>
            {alert.phase === "on" && alert.acknowledged_by == null && (
              <button type="button" className={BUTTON} onClick={() => acknowledge.mutate(undefined)}>
                Acknowledge
              </button>
            )}
            {alert.silence != null ? (
              <button type="button" className={BUTTON} onClick={() => silence.mutate(null)}>
                End the silence
              </button>
            ) : (
              <select aria-label={`Silence ${alert.name}`} value="" onChange={(e) => silence.mutate(Number(e.target.value))} className={`${FIELD} text-sm`}>
                <option value="" disabled>
                  Silence for…
                </option>
                {SILENCES.map((s) => (
                  <option key={s.minutes} value={s.minutes}>
                    {s.says}
                  </option>
                ))}
              </select>
            )}
          </>
        )}
      </Row>
      {wrong !== null && <p role="alert" className="text-sm text-fails">▲ {wrong.message}</p>}
    </article>
  );
}

function Told({ notices }: { notices: AlertNotice[] }) {
  return (
    <section aria-label="What was told" className="card min-w-0 p-4">
      <h2 className="pb-2 font-semibold">What was told</h2>
      {notices.length === 0 && <p className="text-sm text-soft">Nothing yet.</p>}
      <ol className="text-sm">
        {notices.map((n) => {
          const turn = TURNS[n.turn] ?? { says: n.turn, colour: "" };
          return (
            <li key={n.number} className="border-b border-line py-1 last:border-b-0">
              <span className="num text-soft" title={utc(n.at_ms)}>
                {moment(n.at_ms)}
              </span>{" "}
              <span className="font-medium">{n.alert}</span> <span className={turn.colour}>{turn.says}</span>
              <span className="block text-soft first-letter:uppercase">{n.says}</span>
            </li>
          );
        })}
      </ol>
    </section>
  );
}

export function AlertsPage() {
  const { data, error } = useAlerts();
  const may = useMay();
  if (data === undefined) {
    return error === null ? <Message title="Loading…" /> : <Message tone="fails" title={`The alerts cannot be shown: ${error.message}.`} />;
  }
  const sorted = [...data.alerts].sort((a, b) => LOOK[a.phase].rank - LOOK[b.phase].rank);
  const on = sorted.filter((a) => a.phase === "on").length;
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-2 pb-4">
        <h1 className="text-xl font-semibold">Alerts</h1>
        {data.alerts.length > 0 &&
          (on === 0 ? (
            <p role="status" className="text-goes-on">
              ✓ None of {count(data.alerts.length)} is on.
            </p>
          ) : (
            <p role="status" className="font-medium text-fails">
              ▲ {count(on)} of {count(data.alerts.length)} {on === 1 ? "is" : "are"} on.
            </p>
          ))}
        {error !== null && <p role="alert" className="text-sm text-fails">▲ {error.message}; what is shown is from before.</p>}
        <Link to="/plan" className="ml-auto text-sm text-petal underline">
          Add an alert in the plan
        </Link>
      </div>
      {data.alerts.length === 0 ? (
        <Message title="The plan has no alerts yet.">An alert is a sentence on what passes at a point, or on how a source or destination does, such as destination:desk failing for 2 minutes. The plan’s page has a form for it.</Message>
      ) : (
        <>
          {data.sources.length === 0 && (
            <p className="pb-4 text-sm text-waits">
              ▲ Nobody is told. Alerts come as events by a source of kind alerts: add one to the plan ([source.watch], kind = &quot;alerts&quot;), and a route from it to whoever is to be told.
            </p>
          )}
          <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,1fr)] items-start gap-5 max-lg:grid-cols-1">
            <div className="flex min-w-0 flex-col gap-4">
              {sorted.map((alert) => (
                <Card key={alert.name} alert={alert} now={data.now_ms} may={may("operate")} />
              ))}
            </div>
            <Told notices={data.notices} />
          </div>
        </>
      )}
    </>
  );
}
