/** Why an event goes where it goes: which parts of each route's condition decide, what each step does, what becomes of it at each destination. */
import { useId, useState } from "react";

import { type RouteDecision, type WhyPassage, useQuarantineWhy, useWhy } from "../api/client";
import { BUTTON } from "../design/buttons";
import { Sentence } from "./Sentence";
import { Sheet } from "./Sheet";

const EFFECT: Record<string, { word: string; colour: string }> = {
  "no change": { word: "does not change it", colour: "text-soft" },
  changed: { word: "changes it", colour: "text-goes-on" },
  failed: { word: "cannot do its work", colour: "text-waits" },
  removed: { word: "removes it", colour: "text-removed" },
  held: { word: "holds it back", colour: "text-waits" },
  "not reached": { word: "is not reached", colour: "text-soft" },
};

function Steps({ passage }: { passage: WhyPassage }) {
  return (
    <ol className="flex flex-col gap-0.5">
      {passage.steps.map((s, i) => (
        <li key={i} className="grid grid-cols-[9rem_1fr] gap-3">
          <span className={EFFECT[s.effect]?.colour ?? ""}>{EFFECT[s.effect]?.word ?? s.effect}</span>
          <Sentence text={s.sentence} />
        </li>
      ))}
    </ol>
  );
}

function Route({ route }: { route: RouteDecision }) {
  return (
    <li className="border-t border-line py-2">
      <p>
        <span className="font-semibold">{route.name}</span>{" "}
        <span className={route.taken ? "font-medium text-goes-on" : "text-soft"}>{route.taken ? "✓ takes it" : "✗ does not take it"}</span>
        {typeof route.because === "string" && <span className="text-soft">: {route.because}</span>}
      </p>
      <ul>
        {route.parts.map((p, i) => (
          <li key={i} className="grid grid-cols-[9rem_1fr] gap-3">
            <span className={p.holds ? "text-goes-on" : "text-removed"}>{p.holds ? "holds" : "fails"}</span>
            <span>
              <code className="font-mono text-xs">{p.sentence}</code>{" "}
              <span className="text-soft">
                {p.seen.map((s) => (typeof s.value === "string" ? `${s.field} is ${s.value}` : `there is no ${s.field}`)).join(", ")}
              </span>
            </span>
          </li>
        ))}
      </ul>
      {route.taken && <Steps passage={route.passage} />}
      {route.destinations.map((d) => (
        <div key={d.name} className="mt-1">
          <Steps passage={d.passage} />
          <p className="grid grid-cols-[9rem_1fr] gap-3">
            <span className={d.sent ? "font-medium" : "text-removed"}>{d.sent ? `→ ${d.name}` : `not to ${d.name}`}</span>
            <span className="min-w-0">
              {d.fate}
              {typeof d.passage.after === "string" && <code className="block font-mono text-xs break-words">{d.passage.after}</code>}
            </span>
          </p>
        </div>
      ))}
    </li>
  );
}

/** The answer itself, where it stands in a page. */
export function Answer({ source, event }: { source: string; event: string }) {
  const why = useWhy(source, event);
  if (why.error !== null) return <p role="alert" className="text-sm text-fails">▲ {why.error.message}</p>;
  if (why.data === undefined) return <p className="text-sm text-soft">Evaluating…</p>;
  const { unreadable, arrival, routes, remainder } = why.data;
  if (typeof unreadable === "string") return <p className="text-sm text-fails">It cannot be read, and goes to quarantine: {unreadable}</p>;
  return (
    <div className="text-sm" aria-live="polite">
      <Steps passage={arrival} />
      {typeof arrival.after !== "string" && <p className="text-removed">It stops here.</p>}
      <ul aria-label="Routes">
        {routes.map((r) => (
          <Route key={r.name} route={r} />
        ))}
      </ul>
      {remainder && <p className="text-waits">No route takes it but those of the remainder.</p>}
    </div>
  );
}

function Refused({ id }: { id: number }) {
  const why = useQuarantineWhy(id);
  if (why.error !== null) return <p role="alert" className="text-sm text-fails">▲ {why.error.message}</p>;
  if (why.data === undefined) return <p className="text-sm text-soft">Evaluating…</p>;
  const { record, earlier, at_destination: now } = why.data;
  return (
    <dl className="grid grid-cols-[9rem_1fr] gap-x-3 gap-y-2 text-sm" aria-live="polite">
      <dt className="text-soft">refused because</dt>
      <dd className="text-fails">{record.reason}</dd>
      <dt className="text-soft">as sent</dt>
      <dd className="font-mono text-xs break-words">{record.data}</dd>
      {typeof earlier === "string" && (
        <>
          <dt className="text-soft">before the steps</dt>
          <dd className="font-mono text-xs break-words">{earlier}</dd>
        </>
      )}
      {now != null && (
        <>
          <dt className="text-soft">sent again now</dt>
          <dd className="min-w-0">
            <Steps passage={now.passage} />
            <p className={now.sent ? "font-medium" : "text-removed"}>
              {now.sent ? `→ ${now.name}` : `not to ${now.name}`}: {now.fate}
            </p>
            {typeof now.passage.after === "string" && <code className="block font-mono text-xs break-words">{now.passage.after}</code>}
          </dd>
        </>
      )}
    </dl>
  );
}

/** A button that opens why a destination refused an event, and what its steps would make of it now. */
export function WhyRefusedButton({ id }: { id: number }) {
  return (
    <Sheet button="Why?" title={`Why event ${id} was refused`} says="What the destination's current steps would make of it if it were sent again. Nothing is sent or counted.">
      <div className="min-h-0 overflow-y-auto" tabIndex={0} aria-label="The answer">
        <Refused id={id} />
      </div>
    </Sheet>
  );
}

/** A button that opens the answer for one event of a source; the event can be changed there. */
export function WhyButton({ source, event, className }: { source: string; event: string; className?: string }) {
  const [text, setText] = useState(event);
  const [asked, setAsked] = useState(event);
  const field = useId();
  const open = (is: boolean) => {
    if (is) {
      setText(event);
      setAsked(event);
    }
  };
  return (
    <Sheet
      button="Why?"
      className={className}
      title="Why it goes where it goes"
      says={`What the active plan does with this event at source ${source}. Nothing is sent, counted or stored.`}
      onOpenChange={open}
    >
      <form
        className="flex items-start gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          setAsked(text);
        }}
      >
        <label htmlFor={field} className="sr-only">
          The event
        </label>
        <textarea
          id={field}
          value={text}
          onChange={(e) => setText(e.target.value)}
          rows={3}
          spellCheck={false}
          className="min-w-0 flex-1 rounded border border-line bg-surface px-2 py-1 font-mono text-xs"
        />
        <button type="submit" className={BUTTON}>
          Ask
        </button>
      </form>
      <div className="min-h-0 overflow-y-auto" tabIndex={0} aria-label="The answer">
        <Answer key={asked} source={source} event={asked} />
      </div>
    </Sheet>
  );
}
