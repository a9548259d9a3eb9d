/** Which log files are on a host? What stands in them, what is not collected yet, and how it would be. */
import { useNavigate } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import { type AgentLooked, useLookOnAgent } from "../../api/agents";
import { useChangeDraft } from "../../api/plan";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { count } from "../../lib/format";
import { Added, FileList, Kinds } from "../../parts/LookedFiles";
import { Wrong } from "../../parts/Message";
import { Sheet } from "../../parts/Sheet";

const files = (n: number) => `${count(n)} ${n === 1 ? "file" : "files"}`;

/** What was found, and how it gets into the draft. */
function Found({ found, host, group, onDone }: { found: AgentLooked; host: string; group: string; onDone: () => void }) {
  const [whole, setWhole] = useState(false);
  const change = useChangeDraft();
  const navigate = useNavigate();
  const assignment = whole ? found.for_group : found.for_host;
  const text = found.plan != null && assignment != null ? `${found.plan.trimEnd()}\n\n${assignment}` : null;
  const name = /\[assignment\.([^\]]+)\]/.exec(assignment ?? "")?.[1] ?? "";
  return (
    <>
      <p role="status" className="text-sm">
        {found.file_count === 0 ? "No file was found." : `${files(found.file_count)}${found.more ? ", and more" : ""}.`}
        {found.collected.length > 0 && ` Collected already: ${found.collected.map((c) => `${files(c.file_count)} by ${c.by}`).join(", ")}.`}
        {text === null && found.file_count > 0 && " There is nothing else that can be read."}
      </p>
      {found.files.length > 0 && <FileList files={found.files} />}
      <Kinds kinds={found.kinds} />
      {text !== null && (
        <>
          <fieldset className="flex flex-wrap gap-x-5 gap-y-1 text-sm">
            <legend className="pb-1 text-soft">Which hosts are to collect it?</legend>
            <label className="flex items-center gap-2">
              <input type="radio" name="which" checked={!whole} onChange={() => setWhole(false)} /> {host} alone
            </label>
            <label className="flex items-center gap-2">
              <input type="radio" name="which" checked={whole} onChange={() => setWhole(true)} /> all of the group {group}
            </label>
          </fieldset>
          <button
            type="button"
            className={`${BUTTON} self-start border-petal text-petal`}
            disabled={change.isPending}
            onClick={() =>
              change.mutate(
                { edits: [{ edit: "add_part", text }] },
                {
                  onSuccess: () => {
                    onDone();
                    void navigate({ to: "/plan", search: { part: `assignment:${name}` } });
                  },
                },
              )
            }
          >
            Collect it, in the draft
          </button>
          <Wrong says={change.error?.problem.mistakes?.[0]?.message ?? change.error?.message} />
          <Added text={text} />
        </>
      )}
    </>
  );
}

export function LogFiles({ host, group }: { host: string; group: string }) {
  const look = useLookOnAgent(host);
  const [open, setOpen] = useState(false);
  const [paths, setPaths] = useState("");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    look.mutate({ paths: paths.split("\n").map((p) => p.trim()).filter((p) => p !== ""), exclude: [], name: null });
  };
  return (
    <Sheet
      button="Look for log files"
      className={SMALL_BUTTON}
      title={`Log files on ${host}`}
      says="Its agent is asked which files there are, and shows the first lines of each kind. The host’s owner says in agent.toml which files may be looked at."
      open={open}
      onOpenChange={(is) => {
        setOpen(is);
        look.reset();
      }}
    >
      <div className="flex min-h-0 flex-col gap-3 overflow-y-auto" tabIndex={0} aria-label="The files of the host">
        <form onSubmit={submit} className="flex flex-col items-start gap-2">
          <label className="flex w-full flex-col gap-1 text-sm text-soft">
            Patterns of the files, one on each line; none to look where logs usually are
            <textarea rows={2} value={paths} onChange={(e) => setPaths(e.target.value)} spellCheck={false} placeholder="/var/log/ferries/*.log" className={`${FIELD} font-mono text-xs`} />
          </label>
          <button type="submit" className={BUTTON} disabled={look.isPending}>
            {look.isPending ? "Asking its agent…" : "Look"}
          </button>
        </form>
        <Wrong says={look.error?.message} />
        {look.data !== undefined && <Found found={look.data} host={host} group={group} onDone={() => setOpen(false)} />}
      </div>
    </Sheet>
  );
}
