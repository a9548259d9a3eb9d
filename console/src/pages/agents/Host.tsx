/** One host: how its agent does, what it collects and why, and what it says of itself. */
import { Link } from "@tanstack/react-router";

import { type AgentDetail, useAgent, useRetire } from "../../api/agents";
import { age, utc } from "../../lib/format";
import { Message, Paste } from "../../parts/Message";
import { Sentence } from "../../parts/Sentence";
import { Twice } from "../../parts/Twice";
import { Belongs } from "./Belongs";
import { LogFiles } from "./LogFiles";
import { LOOK } from "./condition";

/** A fact's value as one reads it. */
function told(value: unknown): string {
  if (Array.isArray(value)) return value.map(told).join(", ");
  if (typeof value === "object" && value !== null) return Object.entries(value).map(([name, of]) => `${name} = ${told(of)}`).join(", ");
  return String(value);
}

function Parts({ detail }: { detail: AgentDetail }) {
  if (detail.parts.length === 0) return <p className="text-sm text-soft">It has not said yet how its parts do.</p>;
  return (
    <ul className="text-sm">
      {detail.parts.map((part) => (
        <li key={part.part} className="border-b border-line py-1.5 last:border-b-0">
          <span className={part.fine ? "text-goes-on" : "text-fails"}>
            <span aria-hidden="true">{part.fine ? "●" : "▲"}</span> <span className="font-medium">{part.part.replace(/^\w+:/, "")}</span>
          </span>{" "}
          <span className="text-soft">{part.part.startsWith("destination:") ? "is where it sends to" : "is collected"}</span>
          <span className="block first-letter:uppercase">{part.says}</span>
          {part.remedy != null && (part.remedy.startsWith("setfacl ") ? <Paste line={part.remedy} /> : <span className="block text-soft first-letter:uppercase">{part.remedy}</span>)}
        </li>
      ))}
    </ul>
  );
}

function Assignments({ detail }: { detail: AgentDetail }) {
  if (detail.assignments.length === 0) {
    return <p className="text-sm text-soft">The plan has no assignments: a section [assignment.NAME] says by a condition on the facts below which hosts collect what.</p>;
  }
  return (
    <ul className="text-sm">
      {[...detail.assignments].sort((a, b) => Number(b.applies) - Number(a.applies)).map((a) => (
        <li key={a.name} className="border-b border-line py-1.5 last:border-b-0">
          <span className={a.applies ? "text-goes-on" : "text-soft"}>{a.applies ? "✓ for it:" : "not for it:"}</span>{" "}
          <Link to="/plan" search={{ part: `assignment:${a.name}` }} className="font-medium text-petal underline">
            {a.name}
          </Link>{" "}
          <span className="text-soft">collects {a.collect.join(", ")}</span>
          <span className="block">
            {a.when == null ? "every host" : <Sentence text={a.when} condition />}
            {!a.applies && (
              <span className="block text-fails">
                here it does not hold that{" "}
                {a.unmet.map((part, n) => (
                  <span key={part}>
                    {n > 0 && ", "}
                    <Sentence text={part} condition />
                  </span>
                ))}
              </span>
            )}
          </span>
        </li>
      ))}
    </ul>
  );
}

export function Host({ name, source, may, mayChange, mayLook }: { name: string; source: string | undefined; may: boolean; mayChange: boolean; mayLook: boolean }) {
  const { data, error } = useAgent(name);
  const retire = useRetire(name);
  if (data === undefined) return error === null ? <Message title="Loading…" /> : <Message tone="fails" title={error.status === 404 ? `No agent is called ${name}.` : `The agent cannot be shown: ${error.message}.`} />;
  const agent = data.agent;
  const look = LOOK[agent.condition];
  return (
    <article aria-label={`Agent ${name}`} className="card flex min-w-0 flex-col gap-4 p-4">
      <div>
        <div className="flex flex-wrap items-baseline gap-x-3">
          <h2 className="text-lg font-semibold">{name}</h2>
          <span className={`${look.colour} text-sm font-medium`}>
            <span aria-hidden="true">{look.mark}</span> {look.word}
          </span>
          <span className="text-sm text-soft">{agent.group}</span>
          {source !== undefined && (
            <Link to="/events" search={{ at: `source:${source}`, when: `agent.name = "${name}"`, live: true }} className="text-sm text-petal underline">
              its events
            </Link>
          )}
          {mayChange && <Belongs host={name} group={agent.group} />}
          {may && (
            <span className="ml-auto">
              <Twice says="Retire" asks={`Retire ${name}? Nothing more is taken from it.`} onDo={() => retire.mutate(undefined)} />
            </span>
          )}
        </div>
        <p className="pt-1 first-letter:uppercase">{agent.says}.</p>
        {agent.remedy != null && (agent.remedy.startsWith("setfacl ") ? <Paste line={agent.remedy} /> : <p className="text-sm text-soft first-letter:uppercase">{agent.remedy}.</p>)}
        <p className="pt-1 text-sm text-soft">
          Heard <span title={utc(agent.heard_ms)}>{age(data.now_ms - agent.heard_ms)} ago</span>
          {agent.from != null && ` from ${agent.from}`}; enrolled <span title={utc(agent.enrolled_ms)}>{age(data.now_ms - agent.enrolled_ms)} ago</span>
          {agent.version != null && `; version ${agent.version}`}
        </p>
        {data.error != null && <pre className="mt-2 overflow-x-auto rounded bg-raised px-3 py-2 font-mono text-xs text-fails">{data.error}</pre>}
        {data.contradictions.map((says) => (
          <p key={says} className="text-sm text-fails">▲ {says}</p>
        ))}
        {retire.error !== null && <p role="alert" className="text-sm text-fails">▲ {retire.error.message}</p>}
      </div>
      <section aria-label="Its parts">
        <h3 className="pb-1 font-semibold">How its parts do</h3>
        <Parts detail={data} />
      </section>
      <section aria-label="What it collects, and why">
        <div className="flex flex-wrap items-baseline justify-between gap-2 pb-1">
          <h3 className="font-semibold">What it collects, and why</h3>
          {mayLook && data.shows_files && agent.condition !== "silent" && <LogFiles host={name} group={agent.group} />}
        </div>
        <Assignments detail={data} />
        {data.plan !== "" && (
          <details className="pt-2 text-sm">
            <summary className="cursor-pointer text-soft">The plan that it is given{data.current ? "" : ", which it does not run yet"}</summary>
            <pre className="mt-2 overflow-x-auto rounded bg-raised px-3 py-2 font-mono text-xs">{data.plan}</pre>
          </details>
        )}
      </section>
      <section aria-label="Facts">
        <h3 className="pb-1 font-semibold">What it says of its host</h3>
        <dl className="grid grid-cols-[minmax(0,12rem)_minmax(0,1fr)] gap-x-4 gap-y-0.5 text-sm">
          {Object.entries(data.facts).map(([fact, value]) => (
            <div key={fact} className="contents">
              <dt className="font-mono text-xs leading-5 break-words text-soft">{fact}</dt>
              <dd className="break-words">{told(value)}</dd>
            </div>
          ))}
        </dl>
      </section>
    </article>
  );
}
