/** Real events, and what becomes of each: before and after as one text. */
import { ToggleGroup } from "radix-ui";

import type { TrialAnswer, TriedEvent, TriedRoute } from "../../api/plan";
import { clock, count, events, utc } from "../../lib/format";
import { Difference } from "../../parts/Difference";
import { Sentence } from "../../parts/Sentence";
import { type Given, GivenEvents } from "./GivenEvents";

export const OUTCOMES = ["any", "changed", "removed", "unchanged", "failed", "held", "not taken"] as const;
export type Shown = (typeof OUTCOMES)[number];

/** An event as it was given, or its text where it is none. */
function read(text: string): unknown {
  try {
    return JSON.parse(text) as unknown;
  } catch {
    return text.trimEnd();
  }
}

function Passage({ what, before, route }: { what: string; before: unknown; route: TriedRoute }) {
  if (!route.taken || route.passage == null) {
    return (
      <div>
        <span className="text-sm text-soft">{what} does not take it: </span>
        {route.parts.map((p) => (
          <span key={p.sentence} className="mr-3 text-sm">
            <Sentence text={p.sentence} /> <span className="text-soft">({p.seen.map((s) => `${s.field} is ${s.value ?? "missing"}`).join(", ")})</span>
          </span>
        ))}
      </div>
    );
  }
  const { passage } = route;
  const after = passage.after ?? null;
  return (
    <>
      <div className="font-mono text-xs leading-relaxed break-words">
        <Difference before={before} after={after} />
      </div>
      {passage.step != null && passage.outcome !== "changed" && (
        <p className={`text-sm ${passage.outcome === "removed" ? "text-removed" : passage.outcome === "failed" ? "text-waits" : "text-soft"}`}>
          {passage.outcome === "removed" ? "removed by" : passage.outcome === "held" ? "held back by" : "could not be done:"} <Sentence text={passage.step} />
        </p>
      )}
      {route.destinations
        .filter((d) => d.passage.outcome !== "unchanged")
        .map((d) => (
          <div key={d.name} className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-2">
            <span className="text-sm text-soft">to {d.name}</span>
            <span className="font-mono text-xs leading-relaxed break-words">
              <Difference before={after} after={d.passage.after ?? null} />
            </span>
          </div>
        ))}
    </>
  );
}

function Event({ event, route }: { event: TriedEvent; route: string | undefined }) {
  const before = event.arrival.after ?? null;
  const came = read(event.event);
  return (
    <li className="grid grid-cols-[5.5rem_minmax(0,1fr)] gap-3 border-t border-line py-1.5 first:border-t-0 max-md:grid-cols-1 max-md:gap-0">
      <span className="text-xs leading-relaxed text-soft">
        <time className="num" title={utc(event.at_ms)}>
          {clock(event.at_ms)}
        </time>
        <br />
        {event.source}
        {event.stands_for > 1 && <span title="It stands for so many events of the sample's time"> ×{count(event.stands_for)}</span>}
      </span>
      <div className="flex min-w-0 flex-col gap-0.5">
        {event.arrival.outcome !== "unchanged" && (
          <div className="font-mono text-xs leading-relaxed break-words">
            <Difference before={came} after={before} />
          </div>
        )}
        {event.routes.map((r) => (
          <div key={r.name}>
            {route === undefined && <span className="text-sm font-medium">{r.name}: </span>}
            <Passage what={r.name} before={before ?? came} route={r} />
          </div>
        ))}
        {event.routes.length === 0 && before !== null && (
          <div>
            <span className="font-mono text-xs leading-relaxed break-words">{JSON.stringify(before)}</span>
            <p className="text-sm text-soft">No route takes it.</p>
          </div>
        )}
      </div>
    </li>
  );
}

interface TriedProps {
  trial: TrialAnswer | undefined;
  pending: boolean;
  route: string | undefined;
  shown: Shown;
  onShow: (shown: Shown) => void;
  given: Given | null;
  onGiven: (given: Given | null) => void;
}

export function Tried({ trial, pending, route, shown, onShow, given, onGiven }: TriedProps) {
  return (
    <section aria-label="What becomes of real events" className="card min-w-0 p-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <h2 className="text-sm font-semibold text-soft">What becomes of real events{route === undefined ? "" : ` on ${route}`}</h2>
        <ToggleGroup.Root type="single" value={shown} onValueChange={(v) => v !== "" && onShow(v as Shown)} aria-label="Which events" className="flex flex-wrap overflow-hidden rounded border border-line text-sm">
          {OUTCOMES.map((o) => (
            <ToggleGroup.Item key={o} value={o} className="px-2.5 py-0.5 text-soft data-[state=on]:bg-petal-wash data-[state=on]:font-medium data-[state=on]:text-petal">
              {o}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
        <GivenEvents key={given === null ? "samples" : "given"} given={given} onGiven={onGiven} />
        <span className="num ml-auto text-sm text-soft" aria-live="polite">
          {pending ? "trying…" : trial === undefined ? "" : `tried on ${events(trial.events)} ${given === null ? "of the samples" : `given, as if they came by ${given.source}`}`}
        </span>
      </div>
      {trial !== undefined && trial.shown.length === 0 && (
        <p className="text-sm text-soft">{trial.events === 0 && given === null ? "The samples hold no events yet. They are drawn from what arrives." : shown === "any" ? "No event of the samples comes here." : `Of these events, none is ${shown}.`}</p>
      )}
      <ol aria-label="Events" className={pending ? "opacity-60" : ""}>
        {trial?.shown.map((e, i) => <Event key={i} event={e} route={route} />)}
      </ol>
      {trial?.bounds != null && <p className="mt-2 text-sm text-soft">Only what you may see was tried: {trial.bounds.join("; ")}.</p>}
      {(trial?.cannot_tell.length ?? 0) > 0 && (
        <ul aria-label="What these events cannot tell" className="mt-2 text-sm text-soft">
          {trial?.cannot_tell.map((c) => (
            <li key={c}>The samples do not tell it: {c.replaceAll("`", "")}.</li>
          ))}
        </ul>
      )}
    </section>
  );
}
