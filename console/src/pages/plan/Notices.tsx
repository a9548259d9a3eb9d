/** What is to be said of the draft before anything is lost: the plan went on meanwhile, or somebody else is changing what it changes. */
import { useState } from "react";

import type { DraftConflict, OutlinePart, PlanDraft } from "../../api/plan";
import type { ServiceError } from "../../api/client";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { age } from "../../lib/format";
import { Sheet } from "../../parts/Sheet";
import { partOf, useDraft } from "./draft";

function named(part: string): string {
  const { kind, name } = partOf(part);
  return `${kind} ${name}`;
}

/** A part as it is in two plans, one under the other. */
function Both({ part, mine, theirs, whose }: { part: string; mine: string | null | undefined; theirs: string | null | undefined; whose: string }) {
  const text = (of: string | null | undefined) => (of == null ? <span className="text-soft">(removed)</span> : of.trimEnd());
  return (
    <div className="text-sm">
      <h3 className="font-semibold">{named(part)}</h3>
      <div className="grid grid-cols-2 gap-3 max-md:grid-cols-1">
        <figure>
          <figcaption className="text-soft">in your draft</figcaption>
          <pre className="overflow-x-auto rounded bg-raised px-3 py-2 font-mono text-xs whitespace-pre-wrap">{text(mine)}</pre>
        </figure>
        <figure>
          <figcaption className="text-soft">{whose}</figcaption>
          <pre className="overflow-x-auto rounded bg-raised px-3 py-2 font-mono text-xs whitespace-pre-wrap">{text(theirs)}</pre>
        </figure>
      </div>
    </div>
  );
}

function Behind({ draft, error, onRenew }: { draft: PlanDraft; error: ServiceError | null; onRenew: (prefer: "mine" | "active" | null) => void }) {
  const conflicts: DraftConflict[] = error?.kind === "draft-conflict" ? (error.problem.conflicts ?? []) : [];
  return (
    <div role="alert" className="card border-waits p-3">
      <div className="flex flex-wrap items-baseline gap-3">
        <p className="text-sm">
          <span className="font-medium text-waits">▲ Revision {draft.active} was applied since your draft began</span> from revision {draft.revision}. Nothing of your draft is lost.
        </p>
        {conflicts.length === 0 && (
          <button type="button" className={BUTTON} onClick={() => onRenew(null)}>
            Take it up into the draft
          </button>
        )}
      </div>
      {conflicts.length > 0 && (
        <div className="mt-2 flex flex-col gap-3">
          <p className="text-sm">Both changed the same lines of what stands below. What else was applied is taken up either way.</p>
          {conflicts.map((c) => (
            <Both key={c.part} part={c.part} mine={c.mine} theirs={c.active} whose={`in revision ${draft.active}`} />
          ))}
          <div className="flex gap-2">
            <button type="button" className={BUTTON} onClick={() => onRenew("mine")}>
              Keep mine
            </button>
            <button type="button" className={BUTTON} onClick={() => onRenew("active")}>
              Take theirs
            </button>
          </div>
        </div>
      )}
    </div>
  );
}

export function Notices({ error, now }: { error: ServiceError | null; now: number }) {
  const { draft, outline, change, mayChange } = useDraft();
  const [hidden, setHidden] = useState<string[]>([]);
  const mine = (outline?.parts ?? []).filter((p) => p.change != null);
  const text = (part: string) => mine.find((p: OutlinePart) => p.part === part)?.text ?? (outline?.removed.includes(part) === true ? null : undefined);
  const meeting = draft.others
    .map((o) => ({ ...o, parts: o.parts.filter((p) => text(p.part) !== undefined) }))
    .filter((o) => o.parts.length > 0 && !hidden.includes(`${o.who} ${o.at_ms}`));
  return (
    <>
      {mayChange && draft.version > 0 && draft.revision !== draft.active && <Behind draft={draft} error={error} onRenew={(renew) => change({ renew })} />}
      {error !== null && error.kind !== "draft-conflict" && (
        <p role="alert" className="text-sm text-fails">
          ▲ {error.message}.
        </p>
      )}
      {meeting.map((o) => (
        <div key={o.who} role="status" className="card flex flex-wrap items-baseline gap-3 border-waits p-3 text-sm">
          <p>
            <span className="font-medium text-waits">▲ {o.who} is changing {o.parts.map((p) => named(p.part)).join(", ")} as well</span>, the last time {age(now - o.at_ms)} ago.
          </p>
          <Sheet button="Compare" title={`Your draft and ${o.who}’s`} says="Whoever applies first is not overwritten: the other is told, and shown both.">
            <div className="flex min-h-0 flex-col gap-3 overflow-y-auto" tabIndex={0} aria-label="Both drafts">
              {o.parts.map((p) => (
                <Both key={p.part} part={p.part} mine={text(p.part)} theirs={p.text} whose={`in ${o.who}’s draft`} />
              ))}
            </div>
          </Sheet>
          <button type="button" className={SMALL_BUTTON} onClick={() => setHidden([...hidden, `${o.who} ${o.at_ms}`])}>
            Hide
          </button>
        </div>
      ))}
    </>
  );
}
