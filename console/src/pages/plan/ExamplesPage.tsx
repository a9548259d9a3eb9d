/** What must hold of given events: the plan's examples, run as the draft is changed. */
import { useId, useState } from "react";

import { type ExampleTried, type ExpectationTried, type PlanEdit, makeExample, useChangeDraft, useExamples, useMakeExample, useOutline, usePlanDraft } from "../../api/plan";
import { useSample } from "../../api/survey";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { count } from "../../lib/format";
import { useMay } from "../../lib/grants";
import { Message } from "../../parts/Message";
import { Sentence } from "../../parts/Sentence";
import { SentenceField } from "../../parts/SentenceField";
import { Sheet } from "../../parts/Sheet";
import { Twice } from "../../parts/Twice";
import { Mistakes } from "./Apply";
import { PlanNav } from "./PlanNav";
import { literalOf, partOf } from "./draft";

/** What may be expected besides a condition. */
const FATES = ["removed", "not sent"];

/** An example as it stands in a plan. */
function written(example: Pick<ExampleTried, "says" | "source" | "event">, expectations: Pick<ExpectationTried, "destination" | "expected">[]): string {
  const says = example.says == null ? "" : `says = ${literalOf(example.says)}\n`;
  const expect = expectations.map((e) => `${JSON.stringify(e.destination)} = ${literalOf(e.expected)}`).join(", ");
  return `[[example]]\n${says}source = ${literalOf(example.source)}\nevent = ${literalOf(example.event)}\nexpect = { ${expect} }\n`;
}

function Expectation({ of, source, onChange }: { of: ExpectationTried; source: string; onChange: ((expected: string) => void) | null }) {
  const [writes, setWrites] = useState(false);
  const isFate = FATES.includes(of.expected);
  const label = `What is expected at ${of.destination}`;
  return (
    <li className="grid grid-cols-[9rem_minmax(0,1fr)] items-baseline gap-x-4 border-t border-line py-1.5 max-md:grid-cols-1">
      <span className="text-sm">
        <span className={of.failure == null ? "text-goes-on" : "text-fails"}>{of.failure == null ? "✓" : "▲"}</span> at <strong className="font-medium">{of.destination}</strong>
      </span>
      <div className="min-w-0">
        {writes ? (
          <SentenceField
            kind="condition"
            label={label}
            value={isFate ? "" : of.expected}
            point={`source:${source}`}
            placeholder='severity = "warn"'
            onKeep={(sentence) => {
              if (sentence !== "") onChange?.(sentence);
              setWrites(false);
            }}
            onCancel={() => setWrites(false)}
          />
        ) : (
          <span className="flex flex-wrap items-center gap-2">
            {onChange === null ? (
              <span className="text-sm text-soft">{isFate ? of.expected : "meets"}</span>
            ) : (
              <select
                aria-label={label}
                value={isFate ? of.expected : "meets"}
                onChange={(e) => (e.target.value === "meets" ? setWrites(true) : onChange(e.target.value))}
                className={FIELD}
              >
                <option value="meets">is sent, and meets</option>
                {FATES.map((fate) => (
                  <option key={fate}>{fate}</option>
                ))}
              </select>
            )}
            {!isFate &&
              (onChange === null ? (
                <Sentence condition text={of.expected} />
              ) : (
                <button type="button" aria-label={`Edit what is expected at ${of.destination}: ${of.expected}`} onClick={() => setWrites(true)} className="min-w-0 rounded border border-dashed border-line px-2 py-0.5 text-left hover:border-line-strong">
                  <Sentence condition text={of.expected} />
                </button>
              ))}
          </span>
        )}
        {of.failure != null && <p className="text-sm break-words text-fails">{of.failure.replaceAll("`", "")}</p>}
      </div>
    </li>
  );
}

function Entry({ of, text, edit }: { of: ExampleTried; text: string | null; edit: ((...edits: PlanEdit[]) => void) | null }) {
  const name = of.says ?? `Example ${of.number}`;
  const holds = of.expectations.every((e) => e.failure == null);
  const [error, setError] = useState("");
  const change = (expectations: Pick<ExpectationTried, "destination" | "expected">[]) => edit?.({ edit: "change_example", number: of.number, text: written(of, expectations) });
  const remake = () => {
    setError("");
    makeExample({ ...(text !== null && { text }), source: of.source, event: of.event, ...(of.says != null && { says: of.says }) }).then(
      ({ example }) => edit?.({ edit: "change_example", number: of.number, text: example }),
      (e: Error) => setError(e.message),
    );
  };
  return (
    <li className={`card p-4 ${holds ? "" : "border-fails"}`}>
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h2 className="font-semibold">{name}</h2>
        <span className="text-sm text-soft">by source {of.source}</span>
        <span className={`text-sm ${holds ? "text-goes-on" : "text-fails"}`}>{holds ? "✓ holds" : "▲ does not hold"}</span>
        {edit !== null && (
          <span className="ml-auto flex gap-2">
            {!holds && (
              <button type="button" className={SMALL_BUTTON} onClick={remake} aria-label={`Expect what becomes of it now: ${name}`}>
                Expect what becomes of it now
              </button>
            )}
            <Twice says="Remove" asks={`Remove ${name} from the draft?`} onDo={() => edit({ edit: "remove_example", number: of.number })} />
          </span>
        )}
      </div>
      <pre tabIndex={0} aria-label="The event" className="my-2 max-h-32 overflow-auto rounded bg-raised px-3 py-1.5 font-mono text-xs break-words whitespace-pre-wrap">
        {of.event}
      </pre>
      {error !== "" && (
        <p role="alert" className="text-sm text-fails">
          ▲ {error}
        </p>
      )}
      <ul aria-label={`What is expected of ${name}`}>
        {of.expectations.map((e, at) => (
          <Expectation
            key={e.destination}
            of={e}
            source={of.source}
            onChange={edit === null ? null : (expected) => change(of.expectations.map((other, n) => (n === at ? { ...other, expected } : other)))}
          />
        ))}
      </ul>
    </li>
  );
}

/** Makes an example of an event: the newest of a source, or one that is written. */
function Make({ sources, text, onMade }: { sources: string[]; text: string | null; onMade: (example: string) => void }) {
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState("");
  const [event, setEvent] = useState("");
  const [says, setSays] = useState("");
  const source = chosen === "" ? (sources[0] ?? "") : chosen;
  const newest = useSample({ point: `source:${source}`, when: "" }, 20, false, open && source !== "");
  const make = useMakeExample();
  const ids = useId();
  return (
    <Sheet button="Make an example" title="Make an example" says="What becomes of the event now at each destination must hold from then on; no plan that breaks it is applied. What is expected can be changed afterwards." open={open} onOpenChange={setOpen}>
      <form
        className="flex min-h-0 flex-col items-start gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(
            { ...(text !== null && { text }), source, event, ...(says.trim() !== "" && { says: says.trim() }) },
            {
              onSuccess: ({ example }) => {
                onMade(example);
                setOpen(false);
                setEvent("");
                setSays("");
              },
            },
          );
        }}
      >
        <label className="flex items-center gap-2 text-sm text-soft">
          It comes by the source
          <select value={source} onChange={(e) => setChosen(e.target.value)} className={FIELD}>
            {sources.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </label>
        <label className="flex w-full flex-col gap-1 text-sm text-soft" htmlFor={`${ids}-event`}>
          The event, as a sender would send it
        </label>
        <textarea id={`${ids}-event`} required rows={5} value={event} onChange={(e) => setEvent(e.target.value)} spellCheck={false} className={`${FIELD} w-full font-mono text-xs`} />
        {(newest.data?.events ?? []).length > 0 && (
          <label className="flex w-full flex-col gap-1 text-sm text-soft">
            or one of the newest
            <select
              value=""
              onChange={(e) => {
                const at = newest.data?.events[Number(e.target.value)];
                if (at !== undefined) setEvent(JSON.stringify(at.event));
              }}
              className={`${FIELD} w-full font-mono`}
            >
              <option value="">choose one</option>
              {newest.data?.events.map((e, n) => (
                <option key={n} value={n}>
                  {JSON.stringify(e.event).slice(0, 140)}
                </option>
              ))}
            </select>
          </label>
        )}
        <label className="flex w-full flex-col gap-1 text-sm text-soft">
          What it shows, in your words
          <input value={says} onChange={(e) => setSays(e.target.value)} className={`${FIELD} w-full`} />
        </label>
        {make.error !== null && (
          <p role="alert" className="text-sm text-fails">
            ▲ {make.error.message}
          </p>
        )}
        <button type="submit" className={`${BUTTON} border-petal text-petal`} disabled={make.isPending}>
          Add it to the draft
        </button>
      </form>
    </Sheet>
  );
}

/** Whether all examples hold, or how many do not. */
function verdict(failing: number, all: number): string {
  if (failing === 0) return all === 1 ? "✓ The example holds" : `✓ All ${count(all)} hold`;
  if (all === 1) return "▲ The example does not hold";
  return `▲ ${count(failing)} of ${count(all)} ${failing === 1 ? "does" : "do"} not hold`;
}

export function ExamplesPage() {
  const draft = usePlanDraft();
  const changing = useChangeDraft();
  const outline = useOutline(draft.data?.text);
  const may = useMay();
  const isActive = draft.data?.version === 0;
  const text = draft.data === undefined || isActive ? null : draft.data.text;
  const tried = useExamples(draft.data === undefined ? undefined : text);
  const edit = may("change") ? (...edits: PlanEdit[]) => changing.mutate({ edits }) : null;
  if (draft.data === undefined) return draft.error === null ? <Message title="Loading the plan…" /> : <Message tone="fails" heading title={`The plan cannot be shown: ${draft.error.message}.`} />;
  const sources = (outline.data?.parts ?? []).map((p) => partOf(p.part)).filter((p) => p.kind === "source").map((p) => p.name);
  const mistakes = tried.error?.problem.mistakes ?? [];
  const examples = tried.error === null ? tried.data?.examples : undefined;
  const failing = examples?.filter((e) => e.expectations.some((x) => x.failure != null)).length ?? 0;
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-xl font-semibold">Plan</h1>
        <PlanNav />
        {examples !== undefined && examples.length > 0 && (
          <p className={`text-sm ${failing > 0 ? "text-fails" : "text-goes-on"}`} aria-live="polite">
            {verdict(failing, examples.length)} {isActive ? "in the active plan" : "in your draft"}.
          </p>
        )}
        {edit !== null && (
          <span className="ml-auto">
            <Make sources={sources} text={text} onMade={(example) => edit({ edit: "add_part", text: example })} />
          </span>
        )}
      </div>
      {changing.error !== null && <Message tone="fails" title={changing.error.message} />}
      <Mistakes of={mistakes} title="There is a mistake in the draft; its examples cannot be run until it is mended." />
      {tried.error !== null && mistakes.length === 0 && <Message tone="fails" title={`The examples cannot be run: ${tried.error.message}.`} />}
      {tried.data === undefined && tried.error === null && <Message title="Running the examples…" />}
      {examples?.length === 0 && (
        <Message title="The plan has no examples yet.">An example is an event and what must become of it at each destination. It is run whenever the plan is changed, and no plan that breaks one is applied.</Message>
      )}
      <ol aria-label="Examples" className="flex flex-col gap-3">
        {examples?.map((e) => (
          <Entry key={`${e.number} ${e.event}`} of={e} text={text} edit={edit} />
        ))}
      </ol>
    </div>
  );
}
