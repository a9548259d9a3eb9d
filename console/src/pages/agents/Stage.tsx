/** A change of what hosts collect that goes to some of them first: where it stands, and what can be done with it. */
import { Link } from "@tanstack/react-router";

import { type AgentStage, useMoveStage } from "../../api/agents";
import { age, count } from "../../lib/format";
import { Twice } from "../../parts/Twice";

/** How many hosts are named. */
const NAMED = 5;

export function Stage({ stage, now, may }: { stage: AgentStage; now: number; may: boolean }) {
  const move = useMoveStage();
  const isBack = stage.phase === "back";
  const hosts = stage.hosts.slice(0, NAMED).join(", ") + (stage.hosts.length > NAMED ? ` and ${count(stage.hosts.length - NAMED)} more` : "");
  return (
    <section aria-label="A change on its way" className={`card mb-4 flex flex-wrap items-baseline gap-x-4 gap-y-1 p-3 text-sm ${isBack ? "border-fails" : "border-waits"}`}>
      <p role="status" className="min-w-0 flex-1 basis-96">
        <Link to="/plan/revisions" className="font-medium text-petal underline">
          Revision {stage.revision}
        </Link>{" "}
        {isBack ? (
          <>
            <span className="font-medium text-fails">▲ went back</span>: {stage.says}. All hosts collect by revision {stage.before}.
          </>
        ) : (
          <>
            is first on {hosts === "" ? "hosts that have left since" : hosts} <span className="text-soft">({stage.first})</span>; the others collect by revision {stage.before}.{" "}
            {stage.well_since_ms == null ? "They are not all well yet; it goes on once they have been for" : `They have been well for ${age(Math.max(0, now - stage.well_since_ms))}; it goes on once that is`} {age(stage.well_for_s * 1000)}.
          </>
        )}
      </p>
      {may && (
        <span className="flex gap-2">
          <Twice says="On to all hosts" asks="Give it to all hosts now?" onDo={() => move.mutate({ step: "on" })} />
          {!isBack && <Twice says="Back" asks="Take it back?" onDo={() => move.mutate({ step: "back" })} />}
        </span>
      )}
      {move.error !== null && (
        <p role="alert" className="basis-full text-fails">
          ▲ {move.error.message}
        </p>
      )}
    </section>
  );
}
