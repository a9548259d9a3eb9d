/** One part of the plan, set as sentences. */
import { useNavigate } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";

import type { OutlinePart } from "../../api/plan";
import { FIELD } from "../../design/fields";
import { bytes, count } from "../../lib/format";
import { SentenceField } from "../../parts/SentenceField";
import { Twice } from "../../parts/Twice";
import { wrong } from "../../parts/Mistake";
import { Sent } from "./Effect";
import { SentenceButton, Steps } from "./Steps";
import { listed, literalOf, partOf, useDraft } from "./draft";

/** So many names are listed that are not chosen. */
const LISTED = 16;

/** Names of which some are chosen. */
function Chosen({ label, all, chosen, every, onChange }: { label: string; all: string[]; chosen: string[]; every?: string; onChange: ((names: string[]) => void) | null }) {
  const [wanted, setWanted] = useState("");
  if (onChange === null) return <span>{chosen.length === 0 ? every : chosen.join(", ")}</span>;
  // Of very many, those that are chosen and the first ones that are looked for.
  const many = all.length > LISTED;
  const found = many ? all.filter((name) => !chosen.includes(name) && name.includes(wanted.trim())) : [];
  const shown = many ? [...chosen, ...found.slice(0, LISTED)] : all;
  const more = found.length - LISTED;
  return (
    <span role="group" aria-label={label} className="flex flex-wrap items-baseline gap-1.5">
      {many && <input value={wanted} onChange={(e) => setWanted(e.target.value)} placeholder="find by name" aria-label={`Find ${label.toLowerCase()}`} className={`${FIELD} w-36 text-xs`} />}
      {shown.map((name) => {
        const is = chosen.includes(name);
        return (
          <button
            key={name}
            type="button"
            aria-pressed={is}
            onClick={() => onChange(is ? chosen.filter((n) => n !== name) : [...chosen, name])}
            className="rounded-full border border-line px-2.5 py-0.5 text-xs text-soft hover:border-line-strong aria-pressed:border-petal aria-pressed:bg-petal-wash aria-pressed:text-petal"
          >
            {is ? "✓ " : ""}
            {name}
          </button>
        );
      })}
      {more > 0 && <span className="text-xs text-soft">and {count(more)} more</span>}
      {chosen.length === 0 && every !== undefined && <span className="text-xs text-soft">{every}</span>}
    </span>
  );
}

function Row({ label, children }: { label: string; children: ReactNode }) {
  return (
    <>
      <dt className="pt-0.5 text-sm text-soft">{label}</dt>
      <dd className="min-w-0">{children}</dd>
    </>
  );
}

function Condition({ part, point, kind = "condition", all = "every event" }: { part: OutlinePart; point: string | undefined; kind?: "condition" | "alert"; all?: string }) {
  const { edit, mayChange } = useDraft();
  const [writes, setWrites] = useState(false);
  const when = part.when ?? null;
  if (writes) {
    return (
      <SentenceField
        kind={kind}
        label={kind === "alert" ? "What it watches" : "Condition"}
        value={when?.sentence ?? ""}
        placeholder={kind === "alert" ? "destination:desk failing for 2 minutes" : 'severity >= warn and service = "boarding"'}
        point={point}
        onKeep={(sentence) => {
          if (sentence !== (when?.sentence ?? "")) edit({ edit: "set", part: part.part, key: "when", value: sentence === "" && kind === "condition" ? null : literalOf(sentence) });
          setWrites(false);
        }}
        onCancel={() => setWrites(false)}
      />
    );
  }
  return (
    <>
      <SentenceButton of={when} label={when === null ? `${all}: write a condition` : `Edit the condition: ${when.sentence}`} empty={all} condition onOpen={mayChange ? () => setWrites(true) : null} />
      {when?.mistake != null && <p className="px-1 text-sm text-fails">{wrong(when.mistake)}</p>}
    </>
  );
}

/** What the list of steps is called, by what it is a list of. */
const LISTS: Record<string, string> = { source: "on arrival", route: "do", destination: "always", recipe: "steps", collect: "on arrival", assignment: "do" };

export function PartView({ part }: { part: OutlinePart }) {
  const { outline, trial, edit, mayChange } = useDraft();
  const navigate = useNavigate();
  const { kind, name } = partOf(part.part);
  const named = (of: string) => (outline?.parts ?? []).map((p) => partOf(p.part)).filter((p) => p.kind === of).map((p) => p.name);
  const tried = trial?.parts.find((p) => p.part === kind && p.name === name);
  const sent = kind === "destination" ? trial?.destinations.find((d) => d.name === name) : undefined;
  // Fields and values are those of the events that come: a condition is asked of what a source has, steps of what the route takes.
  const source = kind === "source" ? name : (part.from[0] ?? named("source")[0]);
  const atSource = source === undefined ? undefined : `source:${source}`;
  const atSteps = kind === "route" && part.change !== "added" ? part.part : atSource;
  const set = (key: string, names: string[]) => edit({ edit: "set", part: part.part, key, value: names.length === 0 && key === "from" ? null : listed(names) });
  return (
    <section aria-label={`${kind} ${name}`} className="card min-w-0 p-4">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-lg font-semibold">{name}</h2>
        <span className="text-sm text-soft">
          {kind}
          {part.kind == null ? "" : `, ${part.kind}`}
        </span>
        {part.change != null && <span className="text-sm text-waits">{part.change} in this draft</span>}
        {mayChange && (
          <span className="ml-auto">
            <Twice
              says="Remove"
              asks={`Remove ${name} from the draft?`}
              onDo={() => {
                edit({ edit: "remove_part", part: part.part });
                void navigate({ to: "/plan", search: {}, replace: true });
              }}
            />
          </span>
        )}
      </div>
      {part.comment !== "" && <p className="text-sm text-soft">{part.comment}</p>}
      {tried !== undefined && (
        <p className="num mt-1 text-sm" aria-live="polite">
          Of these events, <span className="text-arrive">{count(tried.came.events)} events ({bytes(tried.came.bytes)})</span> come here and{" "}
          <span className="text-goes-on">
            {count(tried.went.events)} ({bytes(tried.went.bytes)})
          </span>{" "}
          go on{tried.went_now != null && tried.went_now.events !== tried.went.events ? `; ${count(tried.went_now.events)} (${bytes(tried.went_now.bytes)}) by the active plan` : ""}.
        </p>
      )}
      {sent !== undefined && tried !== undefined && tried.came.events > 0 && <Sent to={sent} />}
      <dl className="mt-3 grid grid-cols-[4.5rem_minmax(0,1fr)] gap-y-2">
        {kind === "route" && (
          <>
            <Row label="from">
              <Chosen label="Sources" all={named("source")} chosen={part.from} every="every source" onChange={mayChange ? (names) => set("from", names) : null} />
            </Row>
            <Row label="when">
              <Condition key={part.part} part={part} point={atSource} />
            </Row>
          </>
        )}
        {kind === "assignment" && (
          <>
            <Row label="for">
              <Condition key={part.part} part={part} point={undefined} all="every host" />
            </Row>
            <Row label="collect">
              <Chosen label="What agents collect" all={named("collect")} chosen={part.from} onChange={mayChange ? (names) => set("collect", names) : null} />
            </Row>
          </>
        )}
        {kind === "alert" && (
          <Row label="when">
            <Condition key={part.part} part={part} point={undefined} kind="alert" />
          </Row>
        )}
        {LISTS[kind] !== undefined && (
          <Row label={LISTS[kind]}>
            <Steps key={part.part} part={part} tried={tried} point={atSteps} />
          </Row>
        )}
        {kind === "route" && (
          <Row label="to">
            <Chosen label="Destinations" all={named("destination")} chosen={part.to} onChange={mayChange ? (names) => set("to", names) : null} />
          </Row>
        )}
      </dl>
      {kind !== "route" && (
        <details className="mt-3 text-sm" open={kind === "alert" || kind === "budget"}>
          <summary className="cursor-pointer text-soft">As it stands in the file</summary>
          <pre className="mt-1 overflow-x-auto rounded bg-raised px-3 py-2 font-mono text-xs" tabIndex={0}>
            {part.text}
          </pre>
        </details>
      )}
    </section>
  );
}
