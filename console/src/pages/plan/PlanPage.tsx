/** What would this change do? The plan as sentences, each with its effect on real events beside it; nothing runs until it is applied. */
import { Link, useSearch } from "@tanstack/react-router";
import { Suspense, lazy, useCallback, useEffect, useMemo, useState } from "react";

import { type DraftChange, type ExampleTried, type PlanEdit, type PlanMistake, useChangeDraft, useExamples, useOutline, usePlanDraft, useTrial } from "../../api/plan";
import { BUTTON } from "../../design/buttons";
import { age } from "../../lib/format";
import { useMay } from "../../lib/grants";
import { Message } from "../../parts/Message";
import { Months, Saved } from "../../parts/Months";
import { Twice } from "../../parts/Twice";
import { Apply, Mistakes } from "./Apply";
import { Contents } from "./Contents";
import type { Given } from "./GivenEvents";
import { Notices } from "./Notices";
import { PartView } from "./PartView";
import { PlanNav } from "./PlanNav";
import { type Shown, Tried } from "./Tried";
import { Draft, type DraftContext, partOf } from "./draft";

const Whole = lazy(() => import("./Whole"));
const NO_MISTAKES: PlanMistake[] = [];

/** So many events are shown. */
const EVENTS = 20;

/** Whether the examples hold, and which do not. */
function ExamplesHold({ of }: { of: ExampleTried[] }) {
  const failing = of.filter((e) => e.expectations.some((x) => x.failure != null));
  return (
    <p aria-live="polite" className={`text-sm ${failing.length === 0 ? "text-goes-on" : "text-fails"}`}>
      {failing.length === 0 ? `✓ ${of.length === 1 ? "The example holds" : `All ${of.length} examples hold`}. ` : `▲ ${failing.length === 1 ? "An example does" : `${failing.length} examples do`} not hold: ${failing.map((e) => e.says ?? `example ${e.number}`).join(", ")}. `}
      <Link to="/plan/examples" className="text-petal underline">
        Examples
      </Link>
    </p>
  );
}

export function PlanPage() {
  const { part: asked } = useSearch({ from: "/plan" });
  const may = useMay();
  const draft = usePlanDraft();
  const changing = useChangeDraft();
  const outline = useOutline(draft.data?.text);
  const [shown, setShown] = useState<Shown>("any");
  const [given, setGiven] = useState<Given | null>(null);
  const [whole, setWhole] = useState(false);
  // What was applied is said though there is no draft any more.
  const [applies, setApplies] = useState(false);
  const [past, setPast] = useState<string[]>([]);
  const text = draft.data?.text;
  const mayChange = may("change");

  const parts = outline.data?.parts ?? [];
  const first = parts.find((p) => p.change != null) ?? parts.find((p) => p.part.startsWith("route:")) ?? parts[0];
  const part = parts.find((p) => p.part === asked) ?? first;
  const route = part !== undefined && partOf(part.part).kind === "route" ? partOf(part.part).name : undefined;
  const isActive = draft.data !== undefined && draft.data.version === 0;
  // A route that the sentence was just added for is asked for once the outline has it.
  const trial = useTrial(text === undefined || outline.data === undefined ? null : { ...(!isActive && { text }), ...(route !== undefined && { route }), ...(shown !== "any" && { show: shown }), ...given, most: EVENTS });

  // The examples are run as one writes.
  const examples = useExamples(text === undefined ? undefined : isActive ? null : text);
  const mutate = changing.mutate;
  const change = useCallback(
    (asked: DraftChange) => {
      if (text !== undefined && typeof asked === "object" && !("renew" in asked)) setPast((past) => [...past.slice(-99), text]);
      mutate(asked);
    },
    [mutate, text],
  );
  const undo = useCallback(() => {
    const before = past.at(-1);
    if (before === undefined) return;
    setPast(past.slice(0, -1));
    mutate({ text: before });
  }, [past, mutate]);
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      const written = e.target instanceof HTMLElement && (e.target.isContentEditable || ["INPUT", "TEXTAREA"].includes(e.target.tagName));
      if ((e.ctrlKey || e.metaKey) && !e.shiftKey && e.key === "z" && !written) {
        e.preventDefault();
        undo();
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [undo]);

  const context = useMemo<DraftContext | null>(
    () => (draft.data === undefined ? null : { draft: draft.data, outline: outline.data, trial: trial.error === null ? trial.data : undefined, mayChange, change, edit: (...edits: PlanEdit[]) => change({ edits }) }),
    [draft.data, outline.data, trial.data, trial.error, mayChange, change],
  );
  if (draft.error !== null && draft.data === undefined) return <Message tone="fails" heading title={`The plan cannot be shown: ${draft.error.message}.`} />;
  if (context === null || draft.data === undefined) return <Message title="Loading the plan…" />;

  const mistakes = trial.error?.problem.mistakes ?? NO_MISTAKES;
  const changed = parts.filter((p) => p.change != null).length + (outline.data?.removed.length ?? 0);
  const unreadable = outline.data?.unreadable ?? null;
  return (
    <Draft.Provider value={context}>
      <div className="flex flex-col gap-4">
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
          <h1 className="text-xl font-semibold">Plan</h1>
          <PlanNav />
          <p className="text-sm text-soft" aria-live="polite">
            {isActive
              ? mayChange
                ? `Revision ${draft.data.active}, as it runs. Whatever you change here becomes a draft of yours.`
                : `Revision ${draft.data.active}, as it runs. Your grants do not let you change it.`
              : `Your draft of revision ${draft.data.revision}: ${changed === 0 ? "nothing that it does is changed" : changed === 1 ? "1 part changed" : `${changed} parts changed`}; kept ${age(draft.dataUpdatedAt - (draft.data.at_ms ?? 0))} ago.`}
          </p>
          <div className="ml-auto flex flex-wrap items-center gap-2">
            {!isActive && trial.data?.estimated_from_ms != null && <Saved destinations={trial.data.destinations} />}
            <button type="button" className={BUTTON} aria-pressed={whole} onClick={() => setWhole(!whole)}>
              {whole ? "Hide the whole file" : "Whole file"}
            </button>
            {mayChange && (
              <button type="button" className={BUTTON} disabled={past.length === 0} onClick={undo} title="Ctrl-Z">
                Undo
              </button>
            )}
            {!isActive && <Twice says="Discard" asks="Discard the draft?" className="!px-2.5 !py-1 !text-sm" onDo={() => change("discard")} />}
            {(!isActive || applies) && <Apply open={applies} onOpenChange={setApplies} />}
          </div>
        </div>
        {examples.error === null && examples.data !== undefined && examples.data.examples.length > 0 && <ExamplesHold of={examples.data.examples} />}
        <Notices error={changing.error} now={draft.dataUpdatedAt} />
        {unreadable !== null && <pre role="alert" className="card border-fails p-3 font-mono text-xs text-fails">{unreadable}</pre>}
        <Mistakes of={mistakes} title={mistakes.length === 1 ? "There is a mistake in the draft; it cannot be tried until it is mended." : `There are ${mistakes.length} mistakes in the draft; it cannot be tried until they are mended.`} />
        {trial.error !== null && mistakes.length === 0 && unreadable === null && (
          <p role="alert" className="text-sm text-fails">
            ▲ It cannot be tried: {trial.error.message}.
          </p>
        )}
        {whole && (
          <Suspense fallback={<p className="text-sm text-soft">Loading the editor…</p>}>
            <Whole text={draft.data.text} mistakes={mistakes} mayChange={mayChange} onChange={(text) => change({ text })} />
          </Suspense>
        )}
        <div className="grid grid-cols-[13rem_minmax(0,1fr)] gap-5 max-md:grid-cols-1">
          <Contents chosen={part?.part} />
          <div className="flex min-w-0 flex-col gap-4">
            {part === undefined ? <Message title="The plan has no parts yet.">Write it in the whole file, or begin with the plan that the Flow page offers.</Message> : <PartView key={part.part} part={part} />}
            {!isActive && given === null && trial.data !== undefined && trial.error === null && (
              <section aria-label="A month" className="card p-4">
                <Months destinations={trial.data.destinations} from={trial.data.estimated_from_ms} />
              </section>
            )}
            {/* An alert does nothing to events, nor does a budget by itself. */}
            {!["alert", "budget"].includes(part?.part.split(":")[0] ?? "") && <Tried trial={trial.error === null ? trial.data : undefined} pending={trial.isFetching} route={route} shown={shown} onShow={setShown} given={given} onGiven={setGiven} />}
          </div>
        </div>
      </div>
    </Draft.Provider>
  );
}
