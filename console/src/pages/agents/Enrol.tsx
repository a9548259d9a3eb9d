/** The line that is pasted on hosts, and those that enrol with it as they come. */
import { Link } from "@tanstack/react-router";
import { useState } from "react";

import { type AgentsAnswer, useMakeCode } from "../../api/agents";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { age, count } from "../../lib/format";
import { Paste } from "../../parts/Message";
import { Sheet } from "../../parts/Sheet";
import { LOOK } from "./condition";

const TIMES = [
  { minutes: 60, says: "1 hour" },
  { minutes: 1440, says: "1 day" },
  { minutes: 10_080, says: "7 days" },
  { minutes: 43_200, says: "30 days" },
];

export function Enrol({ answer }: { answer: AgentsAnswer }) {
  const make = useMakeCode();
  const [group, setGroup] = useState("");
  const [uses, setUses] = useState(1);
  const [minutes, setMinutes] = useState(60);
  const [source, setSource] = useState(answer.doors[0]?.source ?? "");
  const [plain, setPlain] = useState(false);
  /** When the line was made. */
  const [since, setSince] = useState(0);
  const groups = [...new Set(answer.agents.map((a) => a.group))].sort();
  const made = make.data;
  const came = made === undefined ? [] : answer.agents.filter((a) => a.enrolled_ms >= since && a.group === group);
  return (
    <Sheet
      button="Enrol hosts"
      className={`${BUTTON} border-petal font-semibold text-petal`}
      title="Enrol hosts"
      says="Make a line, paste it on the hosts, and see them come. It knows this service by its certificate, and works so often and so long as you say here."
      onOpenChange={() => make.reset()}
    >
      <form
        className="flex flex-wrap items-end gap-3 text-sm"
        onSubmit={(e) => {
          e.preventDefault();
          setSince(answer.now_ms);
          make.mutate({ group, uses, minutes, source });
        }}
      >
        <label className="flex flex-col gap-1">
          Group
          <input value={group} onChange={(e) => setGroup(e.target.value)} list="groups" required pattern="[A-Za-z][A-Za-z0-9_\-]*" placeholder="kiosks" className={FIELD} />
          <datalist id="groups">
            {groups.map((g) => (
              <option key={g} value={g} />
            ))}
          </datalist>
        </label>
        <label className="flex flex-col gap-1">
          How many hosts
          <input type="number" min={1} max={10_000} value={uses} onChange={(e) => setUses(Number(e.target.value))} className={`${FIELD} w-28`} />
        </label>
        <label className="flex flex-col gap-1">
          Good for
          <select value={minutes} onChange={(e) => setMinutes(Number(e.target.value))} className={FIELD}>
            {TIMES.map((t) => (
              <option key={t.minutes} value={t.minutes}>
                {t.says}
              </option>
            ))}
          </select>
        </label>
        {answer.doors.length > 1 && (
          <label className="flex flex-col gap-1">
            At the source
            <select value={source} onChange={(e) => setSource(e.target.value)} className={FIELD}>
              {answer.doors.map((d) => (
                <option key={d.source} value={d.source}>
                  {d.source} ({d.address})
                </option>
              ))}
            </select>
          </label>
        )}
        <button type="submit" className={BUTTON} disabled={make.isPending}>
          Make the line
        </button>
      </form>
      {make.error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {make.error.message}
        </p>
      )}
      {made !== undefined && (
        <div className="min-w-0 text-sm">
          <p>
            Paste this on {uses === 1 ? "the host" : `the ${count(uses)} hosts`}, within {age(made.expires_ms - since)}. It is shown this once. It fetches the program from here, says what it would do, and installs an agent.
          </p>
          <Paste line={made.setup_line} />
          <details className="pt-2" open={plain} onToggle={(e) => setPlain(e.currentTarget.open)}>
            <summary className="cursor-pointer text-soft">Where the program is, and the agent is to run in the foreground</summary>
            <Paste line={made.line} />
          </details>
          <div aria-live="polite" className="pt-3">
            {came.length === 0 ? (
              <p className="text-soft">No host has come yet.</p>
            ) : (
              <ul>
                {came.map((a) => (
                  <li key={a.id}>
                    <span className={LOOK[a.condition].colour}>
                      <span aria-hidden="true">{LOOK[a.condition].mark}</span> {a.name}
                    </span>{" "}
                    has enrolled: {a.says}.{" "}
                    <Link to="/events" search={{ at: `source:${source}`, when: `agent.name = "${a.name}"`, live: true }} className="text-petal underline">
                      Its events
                    </Link>
                  </li>
                ))}
              </ul>
            )}
          </div>
        </div>
      )}
    </Sheet>
  );
}
