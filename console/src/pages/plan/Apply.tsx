/** What applying the draft would change, in words, with what is predicted; then it is applied. */
import { Link } from "@tanstack/react-router";
import { useId, useState } from "react";

import { type CheckAnswer, type FirstHosts, type PlanMistake, useApply, useCheck } from "../../api/plan";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { count } from "../../lib/format";
import { wrong } from "../../parts/Mistake";
import { FirstHostsField } from "../../parts/FirstHostsField";
import { GiveSecret } from "../../parts/GiveSecret";
import { Months, Saved } from "../../parts/Months";
import { Sheet } from "../../parts/Sheet";
import { Unified } from "../../parts/Unified";
import { useDraft } from "./draft";

export function Mistakes({ of, title }: { of: PlanMistake[]; title: string }) {
  if (of.length === 0) return null;
  return (
    <section role="alert" aria-label={title} className="text-sm">
      <p className="font-semibold text-fails">▲ {title}</p>
      <ul className="flex flex-col gap-1">
        {of.map((m) => (
          <li key={`${m.line}:${m.column} ${m.message}`}>
            <span className="num text-soft">line {m.line}</span> {wrong(m)}
            <code className="block font-mono text-xs break-words text-soft">{m.excerpt}</code>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Changes({ check }: { check: CheckAnswer }) {
  const { forecast } = check;
  return (
    <>
      {check.changes.length === 0 && check.mistakes.length === 0 && <p className="text-sm">{check.difference === "" ? "It changes nothing." : "It changes how the plan is written, and nothing that it does."}</p>}
      <ul aria-label="What changes" className="text-sm">
        {check.changes.map((c) => (
          <li key={`${c.part} ${c.name}`}>
            <span className={c.change === "removed" ? "text-removed" : c.change === "added" ? "text-goes-on" : "text-waits"}>{c.change}</span> {c.part} <strong>{c.name}</strong>
            {(c.details ?? []).length > 0 && (
              <ul className="ml-6 list-disc text-soft">
                {(c.details ?? []).map((d) => (
                  <li key={d}>{d}</li>
                ))}
              </ul>
            )}
          </li>
        ))}
      </ul>
      {forecast != null && (
        <>
          <Months destinations={forecast.destinations} from={forecast.estimated_from_ms} />
          {forecast.estimated_from_ms != null && (
            <p>
              <Saved destinations={forecast.destinations} />
            </p>
          )}
        </>
      )}
      {(check.hosts ?? []).length > 0 && (
        <section aria-label="What changes on hosts" className="text-sm">
          <h3 className="font-semibold">
            {(check.hosts ?? []).length === 1 ? "On one host" : `On ${count((check.hosts ?? []).length)} hosts`}
          </h3>
          <ul className="max-h-40 overflow-y-auto" tabIndex={0} aria-label="Hosts">
            {(check.hosts ?? []).slice(0, 200).map((h) => (
              <li key={h.name}>
                <strong className="font-medium">{h.name}</strong> <span className="text-soft">({h.group})</span> {h.changes.join("; ")}
              </li>
            ))}
          </ul>
        </section>
      )}
      {((forecast?.advice.length ?? 0) > 0 || check.warnings.length > 0) && (
        <ul aria-label="To consider" className="text-sm text-waits">
          {forecast?.advice.map((a) => <li key={a}>▲ {a.replaceAll("`", "")}</li>)}
          {check.warnings.map((w) => (
            <li key={`${w.line} ${w.message}`}>▲ {w.message}</li>
          ))}
        </ul>
      )}
      {check.difference !== "" && (
        <details className="text-sm">
          <summary className="cursor-pointer text-soft">The difference in the file</summary>
          <Unified text={check.difference} label="The difference in the file" />
        </details>
      )}
    </>
  );
}

function Asked({ onApplied }: { onApplied: (revision: number) => void }) {
  const { draft } = useDraft();
  const check = useCheck(draft.text);
  const apply = useApply();
  const [why, setWhy] = useState("");
  const [first, setFirst] = useState<FirstHosts | null>(null);
  const id = useId();
  if (check.error !== null) return <p role="alert" className="text-fails">▲ {check.error.message}</p>;
  if (check.data === undefined) return <p className="text-sm text-soft">Comparing it with the active plan, and predicting what it sends…</p>;
  const { good, mistakes, missing_secrets: secrets, refused } = check.data;
  const isBehind = draft.revision !== draft.active;
  return (
    <div className="flex min-h-0 flex-col gap-3 overflow-y-auto" tabIndex={0} aria-label="What applying it does">
      <Mistakes of={mistakes} title="It cannot be applied: there are mistakes in it." />
      {(refused ?? []).map((r) => (
        <p key={r} role="alert" className="text-sm text-fails">
          ▲ {r.replaceAll("`", "")}
        </p>
      ))}
      {secrets.map((name) => (
        <GiveSecret key={name} name={name} says={`The secret ${name} is not kept yet.`} />
      ))}
      <Changes check={check.data} />
      {(check.data.hosts ?? []).length > 0 && <FirstHostsField hosts={(check.data.hosts ?? []).map((host) => host.name)} first={first} onChange={setFirst} back="If one is not, it goes back by itself." />}
      {isBehind && (
        <p role="alert" className="text-sm text-fails">
          ▲ Revision {draft.active} was applied since this draft began. Take it up first.
        </p>
      )}
      <form
        className="flex flex-wrap items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          apply.mutate({ text: draft.text, why, expected: draft.revision, first: (check.data.hosts ?? []).length > 0 ? first : null }, { onSuccess: ({ revision }) => onApplied(revision) });
        }}
      >
        <label htmlFor={id} className="flex min-w-56 flex-1 flex-col text-sm text-soft">
          Why, for those who look at it later
          <input id={id} value={why} onChange={(e) => setWhy(e.target.value)} maxLength={500} className={FIELD} />
        </label>
        <button type="submit" disabled={!good || isBehind || apply.isPending} className={`${BUTTON} border-petal font-semibold text-petal`}>
          {apply.isPending ? "Applying…" : "Apply it"}
        </button>
      </form>
      {apply.error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {apply.error.message}
        </p>
      )}
    </div>
  );
}

export function Apply({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  const [applied, setApplied] = useState<number | null>(null);
  return (
    <Sheet
      button="Apply…"
      className={`${BUTTON} border-petal font-semibold text-petal`}
      title="Apply the draft"
      says="It becomes the next revision and runs at once; no event is lost, and any revision can be applied again."
      open={open}
      onOpenChange={(is) => {
        onOpenChange(is);
        setApplied(null);
      }}
    >
      {applied === null ? (
        <Asked onApplied={setApplied} />
      ) : (
        <p role="status" className="text-goes-on">
          ✓ Revision {applied} is active. What really comes is compared with what was predicted{" "}
          <Link to="/plan/revisions" search={{ number: applied }} className="text-petal underline">
            with the revision
          </Link>
          .
        </p>
      )}
    </Sheet>
  );
}
