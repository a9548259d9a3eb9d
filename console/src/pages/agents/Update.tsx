/** How far agents have the program of this service. */
import { type AgentUpdate, useStopUpdate } from "../../api/agents";
import { count } from "../../lib/format";
import { Twice } from "../../parts/Twice";

export function Update({ update, may }: { update: AgentUpdate; may: boolean }) {
  const stop = useStopUpdate();
  return (
    <section aria-label="Update of agents" className={`card mb-4 flex flex-wrap items-baseline gap-x-4 gap-y-1 p-3 text-sm ${update.stopped == null ? "" : "border-fails"}`}>
      <p role="status" className="min-w-0 flex-1 basis-96">
        {count(update.done)} of {count(update.hosts)} agents have the program of this service
        {update.stopped != null ? (
          <>
            ; <span className="font-medium text-fails">▲ it goes no further</span>: {update.stopped}.
          </>
        ) : update.first.length > 0 ? (
          `; first are ${update.first.join(", ")}.`
        ) : (
          "."
        )}
      </p>
      {may && <Twice says={update.done === update.hosts ? "Done" : "Stop"} asks={update.done === update.hosts ? "Say no more of it?" : "Give it to no further agent?"} onDo={() => stop.mutate(undefined)} />}
      {stop.error !== null && (
        <p role="alert" className="basis-full text-fails">
          ▲ {stop.error.message}
        </p>
      )}
    </section>
  );
}
