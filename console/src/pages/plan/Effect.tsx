/** What a step does with the samples, in one line beside it. */
import type { TrialDestination, OutlineSentence, TrialPart, TrialStep } from "../../api/plan";
import { bytes, count, share } from "../../lib/format";

/** What each sentence of a list does: one that uses a recipe runs as several steps. Nothing, if the trial is of another text. */
export function effects(steps: OutlineSentence[], tried: TrialPart | undefined): (TrialStep | null)[] {
  const none = steps.map(() => null);
  if (tried === undefined || steps.reduce((sum, s) => sum + s.runs_as, 0) !== tried.steps.length) return none;
  let at = 0;
  return steps.map((step) => {
    const run = tried.steps.slice(at, at + step.runs_as);
    at += step.runs_as;
    const [first, last] = [run[0], run.at(-1)];
    if (first === undefined || last === undefined) return null;
    const sum = (of: (s: TrialStep) => number) => run.reduce((n, s) => n + of(s), 0);
    return {
      ...last,
      came: first.came,
      removed: sum((s) => s.removed),
      changed: Math.max(...run.map((s) => s.changed)),
      failed: sum((s) => s.failed),
      held: sum((s) => s.held),
      nanos: run.some((s) => s.nanos != null) ? sum((s) => s.nanos ?? 0) : null,
    };
  });
}

export function Effect({ step }: { step: TrialStep }) {
  const saved = step.came.bytes - step.went.bytes;
  const nothing = step.removed === 0 && step.changed === 0 && step.failed === 0 && step.held === 0;
  return (
    <span className="num flex flex-wrap justify-end gap-x-3 text-xs text-soft">
      {step.came.events === 0 && <span>no event of the sample comes here</span>}
      {step.came.events > 0 && nothing && <span>leaves all as it is</span>}
      {step.removed > 0 && (
        <span className="font-medium text-removed">
          <span aria-hidden="true" className="mr-1.5 inline-block h-2.5 hatch align-[-1px]" style={{ width: `${Math.max(2, (48 * step.removed) / Math.max(1, step.came.events))}px` }} />
          removes {count(step.removed)} ({share(step.removed, step.came.events)})
        </span>
      )}
      {step.changed > 0 && <span>changes {count(step.changed)}</span>}
      {step.held > 0 && <span>holds {count(step.held)}</span>}
      {step.failed > 0 && <span className="text-waits">fails on {count(step.failed)}</span>}
      {saved !== 0 && (
        <span className={saved > 0 ? "text-removed" : ""}>
          {saved > 0 ? "−" : "+"}
          {bytes(Math.abs(saved))}
        </span>
      )}
      {step.nanos != null && step.nanos > 0 && <span title="How long it works on one event, on average">{(step.nanos / 1000).toFixed(1)} µs</span>}
    </span>
  );
}

/** The personal data that is left behind a step, where that is other than before it; behind the last one, always. */
export function Left({ step, before, last }: { step: TrialStep; before: TrialStep | null; last: boolean }) {
  const left = fields(step);
  if (left === "" && (before === null || fields(before) === "")) return null;
  if (left === "") return <p className="px-1 text-xs text-goes-on">✓ no personal data is left</p>;
  if (!last && before !== null && fields(before) === left) return null;
  return <p className={`px-1 text-xs ${last ? "text-waits" : "text-soft"}`}>personal data left in {left}</p>;
}

/** The personal data in what a destination would be sent. */
export function Sent({ to }: { to: TrialDestination }) {
  if (to.personal.length === 0) return <p className="mt-1 text-sm text-goes-on">✓ No personal data was found in what is sent there.</p>;
  return (
    <p className="mt-1 text-sm text-waits">
      ▲ Personal data is sent there: {fields(to)}
    </p>
  );
}

function fields(of: { personal?: TrialDestination["personal"] }): string {
  return (of.personal ?? []).map((p) => `${p.field} (${p.found.map((f) => f.detector).join(", ")})`).join(", ");
}
