/** Which hosts are heard, silent or wrong? What does each collect, and why? */
import { Link, useSearch } from "@tanstack/react-router";
import { useState } from "react";

import { type AgentState, useAgents } from "../../api/agents";
import { FIELD } from "../../design/fields";
import { age, count } from "../../lib/format";
import { useMay, useMayAll } from "../../lib/grants";
import { Message, Paste } from "../../parts/Message";
import { Enrol } from "./Enrol";
import { GiveProgram } from "./GiveProgram";
import { Host } from "./Host";
import { Stage } from "./Stage";
import { Update } from "./Update";
import { LOOK, needsSomebody } from "./condition";

/** So many are listed; the others are found by name, group or what is said of them. */
const LISTED = 200;
const DOOR = '[source.hosts]\nkind = "agents"\nlisten = "0.0.0.0:8640"\nreached_as = ["logs.ferries.example"]';

function Row({ agent, now, chosen }: { agent: AgentState; now: number; chosen: boolean }) {
  const look = LOOK[agent.condition];
  return (
    <li>
      <Link
        to="/agents"
        search={{ host: agent.name }}
        replace
        data-chosen={chosen}
        aria-current={chosen ? "true" : undefined}
        className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3 rounded px-2 py-1.5 text-sm hover:bg-raised data-[chosen=true]:bg-petal-wash"
      >
        <span className="min-w-0 truncate font-medium">{agent.name}</span>
        <span className={look.colour}>
          <span aria-hidden="true">{look.mark}</span> {look.word}
        </span>
        <span className="min-w-0 truncate text-soft" title={agent.says}>
          {needsSomebody(agent) ? agent.says : agent.assignments.length === 0 ? "no assignment is for it" : agent.assignments.join(", ")}
        </span>
        <span className="num text-right text-soft">{age(Math.max(0, now - agent.heard_ms))} ago</span>
      </Link>
    </li>
  );
}

export function AgentsPage() {
  const { data, error } = useAgents();
  const { host } = useSearch({ from: "/agents" });
  const [wanted, setWanted] = useState("");
  const may = useMay();
  const mayAll = useMayAll();
  if (data === undefined) return error === null ? <Message title="Loading the agents…" /> : <Message tone="fails" heading title={`The agents cannot be shown: ${error.message}.`} />;
  const bad = data.agents.filter(needsSomebody).length;
  const words = wanted.trim().toLowerCase();
  const found = data.agents.filter((a) => words === "" || [a.name, a.group, a.says, a.version ?? "", LOOK[a.condition].word].some((text) => text.toLowerCase().includes(words)));
  const listed = found.slice(0, LISTED);
  const groups = [...new Set(listed.map((a) => a.group))].sort();
  const chosen = host ?? listed[0]?.name;
  const mayEnrol = may("secrets") && data.doors.length > 0;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2 pb-4">
        <h1 className="text-xl font-semibold">Agents</h1>
        {data.agents.length > 0 &&
          (bad === 0 ? (
            <p role="status" className="text-goes-on">
              ✓ None of {count(data.agents.length)} needs attention.
            </p>
          ) : (
            <p role="status" className="font-medium text-fails">
              ▲ {count(bad)} of {count(data.agents.length)} {bad === 1 ? "needs" : "need"} attention.
            </p>
          ))}
        {error !== null && <p role="alert" className="text-sm text-fails">▲ {error.message}; what is shown is from before.</p>}
        {mayEnrol && (
          <span className="ml-auto flex gap-2">
            {data.agents.length > 0 && <GiveProgram />}
            <Enrol answer={data} />
          </span>
        )}
      </div>
      {data.stage != null && <Stage stage={data.stage} now={data.now_ms} may={mayAll("change")} />}
      {data.update != null && <Update update={data.update} may={may("secrets")} />}
      {data.doors.length === 0 && (
        <Message title="The plan has no source for agents.">
          Agents enrol at a source of kind agents, and send there what they collect. Add one to the plan:
          <Paste line={DOOR} />
        </Message>
      )}
      {data.doors.length > 0 && data.agents.length === 0 && <Message title="No host has enrolled yet.">{mayEnrol ? "Enrol hosts makes a line to paste on them; they show here seconds later." : "Your grants do not let you enrol any."}</Message>}
      {data.agents.length > 0 && (
        <div className="grid grid-cols-[minmax(0,22rem)_minmax(0,1fr)] items-start gap-5 max-lg:grid-cols-1">
          <section aria-label="Hosts" className="card min-w-0 p-3">
            <input type="search" aria-label="Find hosts" placeholder="Find by name, group or state" value={wanted} onChange={(e) => setWanted(e.target.value)} className={`${FIELD} mb-2 w-full`} />
            {groups.map((group) => (
              <div key={group} className="pb-2">
                <h2 className="px-2 text-sm font-semibold text-soft">
                  {group} <span className="num font-normal">{count(found.filter((a) => a.group === group).length)}</span>
                </h2>
                <ul>
                  {listed
                    .filter((a) => a.group === group)
                    .map((a) => (
                      <Row key={a.id} agent={a} now={data.now_ms} chosen={a.name === chosen} />
                    ))}
                </ul>
              </div>
            ))}
            {found.length === 0 && <p className="px-2 text-sm text-soft">No host is called or described so.</p>}
            {found.length > LISTED && <p className="px-2 text-sm text-soft">{count(found.length - LISTED)} more; find them by name.</p>}
          </section>
          {chosen !== undefined && <Host key={chosen} name={chosen} source={data.doors[0]?.source} may={may("secrets")} mayChange={mayAll("change")} mayLook={mayAll("see") && mayAll("change")} />}
        </div>
      )}
    </>
  );
}
