/** To which group a host belongs, and which labels it is given from here: what that changes on it is shown before it is so. */
import { type FormEvent, useState } from "react";

import { useSetAgents } from "../../api/agents";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { Wrong } from "../../parts/Message";
import { Sheet } from "../../parts/Sheet";

/** Labels as lines: `name=value`, or `name=` for the host's own. */
const read = (text: string): Record<string, string | null> =>
  Object.fromEntries(
    text
      .split("\n")
      .map((line) => line.trim())
      .filter((line) => line !== "")
      .map((line) => {
        const at = line.indexOf("=");
        const value = at < 0 ? "" : line.slice(at + 1).trim();
        return [(at < 0 ? line : line.slice(0, at)).trim(), value === "" ? null : value];
      }),
  );

export function Belongs({ host, group }: { host: string; group: string }) {
  const [open, setOpen] = useState(false);
  const [next, setNext] = useState(group);
  const [labels, setLabels] = useState("");
  const { look, act: set, reset, error } = useSetAgents();
  const asked = { names: [host], when: null, group: next === group ? null : next, labels: read(labels) };
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    look.mutate(asked);
  };
  return (
    <Sheet
      button="Group and labels"
      className={SMALL_BUTTON}
      title={`Group and labels of ${host}`}
      says="Assignments ask for them. What is given here counts before what the host says of itself; a label without a value lets the host’s own count again."
      open={open}
      onOpenChange={(is) => {
        setOpen(is);
        setNext(group);
        setLabels("");
        reset();
      }}
    >
      <form onSubmit={submit} className="flex flex-col items-start gap-3 text-sm">
        <label className="flex flex-col gap-1">
          Group
          <input
            value={next}
            required
            pattern="[A-Za-z][A-Za-z0-9_\-]*"
            onChange={(e) => {
              setNext(e.target.value);
              reset();
            }}
            className={FIELD}
          />
        </label>
        <label className="flex w-full flex-col gap-1">
          Labels, one on each line
          <textarea
            rows={3}
            value={labels}
            placeholder="port=Lowmere"
            spellCheck={false}
            onChange={(e) => {
              setLabels(e.target.value);
              reset();
            }}
            className={`${FIELD} font-mono text-xs`}
          />
        </label>
        <button type="submit" className={BUTTON} disabled={look.isPending}>
          See what changes
        </button>
      </form>
      <Wrong says={error?.message} />
      {look.data !== undefined && (
        <div className="flex flex-col items-start gap-2 text-sm">
          <p role="status">{look.data.hosts.length === 0 ? "It changes nothing of what the host collects." : look.data.hosts.map((h) => `It ${h.changes.join("; ")}.`).join(" ")}</p>
          <button type="button" className={`${BUTTON} border-petal text-petal`} disabled={set.isPending} onClick={() => set.mutate(asked, { onSuccess: () => setOpen(false) })}>
            Set it
          </button>
        </div>
      )}
    </Sheet>
  );
}
