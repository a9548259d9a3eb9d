/** Gives agents the program of this service: who would get it is shown before it is given. */
import { type FormEvent, useState } from "react";

import { useUpdateAgents } from "../../api/agents";
import type { FirstHosts } from "../../api/plan";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { count } from "../../lib/format";
import { FirstHostsField } from "../../parts/FirstHostsField";
import { Wrong } from "../../parts/Message";
import { Sheet } from "../../parts/Sheet";

/** Most names that are listed. */
const LISTED = 20;

/** A condition that every agent meets. */
const ALL = "agent.name exists";

export function GiveProgram() {
  const [open, setOpen] = useState(false);
  const [when, setWhen] = useState(ALL);
  const [first, setFirst] = useState<FirstHosts | null>(null);
  const { look, act: give, reset, error } = useUpdateAgents();
  const asked = { names: [], when, first };
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    look.mutate(asked);
  };
  const names = look.data?.names ?? [];
  return (
    <Sheet
      button="Update agents"
      className={BUTTON}
      title="Update agents"
      says="They get the program of this service, check who signed it, and try it. One that ends at once, or that this service does not hear within a minute, is put aside by its agent, which goes on with the one before."
      open={open}
      onOpenChange={(is) => {
        setOpen(is);
        setFirst(null);
        reset();
      }}
    >
      <form onSubmit={submit} className="flex flex-col items-start gap-3 text-sm">
        <label className="flex w-full flex-col gap-1">
          Which hosts, as a condition on their facts
          <input
            value={when}
            required
            spellCheck={false}
            onChange={(e) => {
              setWhen(e.target.value);
              setFirst(null);
              reset();
            }}
            className={`${FIELD} font-mono text-xs`}
          />
        </label>
        <button type="submit" className={BUTTON} disabled={look.isPending}>
          See which would get it
        </button>
      </form>
      <Wrong says={error?.message} />
      {look.data !== undefined &&
        (names.length === 0 ? (
          <p role="status" className="text-sm">
            None of them: they have it, or take no programs from here.
          </p>
        ) : (
          <div className="flex min-h-0 flex-col items-start gap-3 overflow-y-auto text-sm" tabIndex={0} aria-label="Who gets it">
            <p role="status">
              {count(names.length)} {names.length === 1 ? "agent gets" : "agents get"} it: {names.slice(0, LISTED).join(", ")}
              {names.length > LISTED ? `, and ${count(names.length - LISTED)} more` : ""}.
            </p>
            <FirstHostsField hosts={names} first={first} onChange={setFirst} back="If one is not, no further host gets it." />
            <button type="button" className={`${BUTTON} border-petal text-petal`} disabled={give.isPending} onClick={() => give.mutate(asked, { onSuccess: () => setOpen(false) })}>
              {names.length === 1 ? "Give it to this agent" : `Give it to ${first === null ? "all of them" : "the first"}`}
            </button>
          </div>
        ))}
    </Sheet>
  );
}
