/** How much of each budget is used, what is to be expected, and what is done by it. */
import { Link } from "@tanstack/react-router";

import { type BudgetAct, type BudgetState, useBudgets, useLift } from "../../api/budgets";
import { BUTTON } from "../../design/buttons";
import { age, bytes, count, money, utc } from "../../lib/format";
import { useMay } from "../../lib/grants";
import { Sentence } from "../../parts/Sentence";

/** An amount in what a budget is counted in. */
function amount(of: number, unit: string): string {
  if (unit === "bytes") return bytes(of);
  if (unit === "events") return count(Math.round(of));
  return money(of, unit);
}

/** How a budget stands, in words and a colour. */
function standing(b: BudgetState): { says: string; colour: string; bar: string } {
  if (b.lift != null) return { says: "○ lifted", colour: "text-soft", bar: "bg-soft" };
  if (b.percent >= 100) return { says: "▲ used up", colour: "text-fails", bar: "bg-fails" };
  if (b.forecast != null && b.forecast.expected >= Number(b.most)) return { says: "▲ will not suffice", colour: "text-waits", bar: "bg-waits" };
  return { says: "✓ suffices", colour: "text-goes-on", bar: "bg-goes-on" };
}

/** What is used of the whole, as a bar with a mark where it is expected to end. */
function Bar({ b, colour }: { b: BudgetState; colour: string }) {
  // What goes beyond the budget is drawn up to half as much again.
  const scale = Math.max(100, Math.min(150, b.percent));
  const at = (percent: number) => `${Math.min(100, (percent / scale) * 100)}%`;
  const expected = b.forecast == null ? null : (b.forecast.expected / Number(b.most)) * 100;
  return (
    <div role="img" aria-label={`${b.percent} % of ${b.name} are used`} className="relative h-2.5 overflow-hidden rounded bg-raised">
      <div className={`h-full ${colour}`} style={{ width: at(b.percent) }} />
      {scale > 100 && <div className="absolute inset-y-0 w-px bg-ink" style={{ left: at(100) }} />}
      {expected !== null && expected <= scale && <div className="absolute inset-y-0 w-0.5 bg-ink/50" style={{ left: at(expected) }} />}
    </div>
  );
}

function Act({ act }: { act: BudgetAct }) {
  const events = act.events === 0 ? "" : `${count(act.events)} events, ${bytes(act.bytes)} in this period`;
  return (
    <li className="min-w-0">
      <span className={act.acts ? "font-medium text-fails" : "text-soft"}>{act.acts ? "acts at" : `from ${act.from_percent} % on at`}</span>{" "}
      <Link to="/plan" search={{ part: act.at }} className="text-petal underline">
        {act.at}
      </Link>
      : <Sentence text={act.sentence} condition={act.sentence.startsWith("when ")} />
      {events !== "" && <span className="num text-soft"> ({events})</span>}
    </li>
  );
}

function Budget({ b, now, may }: { b: BudgetState; now: number; may: boolean }) {
  const look = standing(b);
  const lift = useLift(b.name);
  return (
    <article aria-label={`Budget ${b.name}`} className="flex min-w-0 flex-col gap-1.5 [&:nth-of-type(n+2)]:border-t [&:nth-of-type(n+2)]:border-line [&:nth-of-type(n+2)]:pt-3">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h3 className="font-semibold">{b.name}</h3>
        <span className={`font-medium ${look.colour}`}>{look.says}</span>
        <Link to="/plan" search={{ part: `budget:${b.name}` }} className="text-sm text-petal underline" aria-label={`${b.name} in the plan`}>
          in the plan
        </Link>
        <span className="num ml-auto text-sm">
          {amount(Number(b.used), b.unit)} of {amount(Number(b.most), b.unit)}, {b.percent} %
        </span>
      </div>
      <Bar b={b} colour={look.bar} />
      <p className="text-sm text-soft">
        {b.allows}; this period ends in <span title={`${utc(b.ends_ms)}, by the clocks of ${b.time_zone}`}>{age(b.ends_ms - now)}</span>.{" "}
        {b.forecast == null ? (
          "Nothing can be foreseen until a whole hour has been counted."
        ) : (
          <>
            By then probably <span className="num font-medium text-ink">{amount(b.forecast.expected, b.unit)}</span>, in nine of ten cases from{" "}
            <span className="num">{amount(b.forecast.low, b.unit)}</span> to <span className="num">{amount(b.forecast.high, b.unit)}</span>.
          </>
        )}
      </p>
      {b.acts.length > 0 && (
        <ul className="flex flex-col gap-0.5 text-sm">
          {b.acts.map((act) => (
            <Act key={`${act.at} ${act.sentence}`} act={act} />
          ))}
        </ul>
      )}
      {b.percent >= 100 && b.advice != null && <p className="text-sm font-medium">{b.advice}</p>}
      {b.lift != null && (
        <p className="text-sm text-soft">
          Lifted by {b.lift.who}: nothing is done by it for {age(b.lift.until_ms - now)} more.
        </p>
      )}
      {may && b.acts.length > 0 && (
        <div>
          <button type="button" className={BUTTON} disabled={lift.isPending} onClick={() => lift.mutate(b.lift == null)}>
            {b.lift == null ? `Lift ${b.name} until its period ends` : `Let steps act by ${b.name} again`}
          </button>
        </div>
      )}
      {lift.error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {lift.error.message}
        </p>
      )}
    </article>
  );
}

export function Budgets() {
  const { data, error } = useBudgets();
  const may = useMay();
  if (error !== null && data === undefined) {
    return (
      <p role="alert" className="pb-4 text-sm text-fails">
        ▲ The budgets cannot be shown: {error.message}.
      </p>
    );
  }
  if (data === undefined || data.budgets.length === 0) return null;
  return (
    <section aria-label="Budgets" className="card mb-5 flex flex-col gap-3 p-4">
      <h2 className="text-lg font-semibold">Budgets</h2>
      {data.budgets.map((b) => (
        <Budget key={b.name} b={b} now={data.now_ms} may={may("operate")} />
      ))}
    </section>
  );
}
