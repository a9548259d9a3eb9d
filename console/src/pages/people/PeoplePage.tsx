/** Who may come in, what may each see and do, and who did what? */
import { type FormEvent, useId, useState } from "react";

import { type Person, useChange, useJournal, useJournalCheck, useMe, usePeople, useRoles, useSessions, useTokens } from "../../api/people";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { clock, count, utc } from "../../lib/format";
import { Message, Paste } from "../../parts/Message";
import { Sheet } from "../../parts/Sheet";
import { Twice } from "../../parts/Twice";
import { Table } from "./Table";

const NO_GRANTS: string[] = [];

function Grants({ of }: { of: string[] }) {
  if (of.length === 0) return <span className="text-soft">nothing</span>;
  return (
    <ul className="font-mono text-xs">
      {of.map((grant) => (
        <li key={grant}>{grant}</li>
      ))}
    </ul>
  );
}

function When({ ms, never = "never" }: { ms: number | null | undefined; never?: string }) {
  if (ms === null || ms === undefined) return <span className="text-soft">{never}</span>;
  const day = new Date(ms).toDateString() === new Date().toDateString() ? clock(ms) : utc(ms).slice(0, 16).replace("T", " ");
  return <span title={utc(ms)}>{day}</span>;
}

/** What somebody may do: a ready-made set, or sentences of one's own. */
function GrantsField({ grants, onChange }: { grants: string; onChange: (grants: string) => void }) {
  const [team, setTeam] = useState("");
  const { data: roles } = useRoles(team === "" ? "TEAM" : team);
  const id = useId();
  return (
    <div className="flex flex-col gap-2">
      <div className="flex flex-wrap items-center gap-2 text-sm">
        {(roles ?? []).map((role) => (
          <button key={role.name} type="button" title={role.says} className={SMALL_BUTTON} disabled={role.of_team && team === ""} onClick={() => onChange(role.grants.join("\n"))}>
            {role.name}
          </button>
        ))}
        <input aria-label="Team" placeholder="team" value={team} onChange={(e) => setTeam(e.target.value)} className={`${FIELD} w-32`} />
      </div>
      <label htmlFor={id} className="text-sm text-soft">
        Grants, a sentence on each line
      </label>
      <textarea id={id} rows={4} spellCheck={false} required value={grants} onChange={(e) => onChange(e.target.value)} className={`${FIELD} font-mono text-xs`} />
    </div>
  );
}

const sentences = (grants: string) => grants.split("\n").map((g) => g.trim()).filter((g) => g !== "");

/** A form in a sheet; it closes once what it asks for is done. */
function GrantSheet({ button, title, says, named, grants: begin, onSend }: { button: string; title: string; says: string; named: boolean; grants: string[]; onSend: (name: string, grants: string[], done: () => void, failed: (why: string) => void) => void }) {
  const [grants, setGrants] = useState(begin.join("\n"));
  const [wrong, setWrong] = useState<string | null>(null);
  const [sent, setSent] = useState(false);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const name = String(new FormData(event.currentTarget).get("name") ?? "");
    setWrong(null);
    onSend(name, sentences(grants), () => setSent(true), setWrong);
  };
  return (
    <Sheet
      button={button}
      title={title}
      says={says}
      onOpenChange={() => {
        setSent(false);
        setWrong(null);
        setGrants(begin.join("\n"));
      }}
    >
      {sent ? (
        <p role="status" className="text-goes-on">
          Done.
        </p>
      ) : (
        <form onSubmit={submit} className="flex flex-col gap-3">
          {named && (
            <label className="flex flex-col gap-1 text-sm text-soft">
              Name
              <input name="name" required maxLength={64} className={FIELD} />
            </label>
          )}
          <GrantsField grants={grants} onChange={setGrants} />
          {wrong !== null && (
            <p role="alert" className="text-sm text-fails">
              ▲ {wrong}
            </p>
          )}
          <button type="submit" className={`${BUTTON} self-start`}>
            Save
          </button>
        </form>
      )}
    </Sheet>
  );
}

function People() {
  const { data } = usePeople(true);
  const change = useChange();
  const of = (name: string) => `/api/v1/people/${encodeURIComponent(name)}`;
  const send = (person: Person | null) => (name: string, grants: string[], done: () => void, failed: (why: string) => void) => {
    const asked = person === null ? { method: "POST" as const, path: "/api/v1/people", body: { name, grants } } : { method: "PUT" as const, path: `${of(person.name)}/grants`, body: { grants } };
    change.mutate(asked, { onSuccess: done, onError: (e) => failed(e.message) });
  };
  return (
    <Table
      id="people"
      title="People"
      says={<GrantSheet button="Add" title="Add a person" says="They sign in by a link (rockrose link --person NAME), or with a password." named grants={[]} onSend={send(null)} />}
      head={["name", "may", "signs in by", "added", "by"]}
      rows={(data ?? []).map((p) => ({
        key: p.name,
        cells: [p.name, <Grants key="g" of={p.grants} />, ["link", ...(p.password ? ["password"] : []), ...(p.account ? ["provider"] : [])].join(", "), <When key="w" ms={p.made_ms} />, p.made_by],
        actions: (
          <>
            <GrantSheet button="Change" title={`What ${p.name} may see and do`} says="It takes effect at once, on what is open as well." named={false} grants={p.grants} onSend={send(p)} />
            <Twice says="Remove" asks={`Remove ${p.name}?`} className="ml-1.5" onDo={() => change.mutate({ method: "DELETE", path: of(p.name) })} />
          </>
        ),
      }))}
      empty="Nobody was added yet. Whoever holds a token can sign in by a link of their own."
    />
  );
}

function Tokens() {
  const { data } = useTokens(true);
  const [made, setMade] = useState<string | null>(null);
  const change = useChange<{ token: string }>((answer) => setMade(answer?.token ?? null));
  const send = (name: string, grants: string[], done: () => void, failed: (why: string) => void) =>
    change.mutate({ method: "POST", path: "/api/v1/tokens", body: { name, grants } }, { onSuccess: done, onError: (e) => failed(e.message) });
  return (
    <Table
      id="tokens"
      title="Tokens of programs"
      says={<GrantSheet button="Make" title="Make a token" says="It is shown once, below the table." named grants={[]} onSend={send} />}
      head={["name", "may", "made", "by", "ends", "last used", "from"]}
      rows={(data ?? []).map((t) => ({
        key: t.id,
        cells: [t.name, <Grants key="g" of={t.grants} />, <When key="m" ms={t.made_ms} />, t.made_by, <When key="e" ms={t.expires_ms} />, <When key="u" ms={t.used_ms} />, t.used_from ?? ""],
        actions: (
          <Twice says="Revoke" asks={`Revoke ${t.name}?`} onDo={() => change.mutate({ method: "DELETE", path: `/api/v1/tokens/${t.id}` })} />
        ),
      }))}
      empty="There are no tokens."
    >
      {made !== null && (
        <Message title="The new token. It is shown this once.">
          <Paste line={made} />
        </Message>
      )}
    </Table>
  );
}

function Sessions() {
  const { data } = useSessions();
  const change = useChange();
  return (
    <Table
      id="sessions"
      title="Signed-in browsers"
      head={["name", "since", "ends", "last used", "from"]}
      rows={(data ?? []).map((s) => ({
        key: s.id,
        cells: [
          s.mine ? (
            <span key="n">
              {s.name} <span className="text-soft">(this browser)</span>
            </span>
          ) : (
            s.name
          ),
          <When key="s" ms={s.made_ms} />,
          <When key="e" ms={s.expires_ms} />,
          <When key="u" ms={s.used_ms} />,
          s.used_from ?? "",
        ],
        actions: (
          <Twice says="End" asks={`End the session of ${s.name}?`} onDo={() => change.mutate({ method: "DELETE", path: `/api/v1/sessions/${s.id}` })} />
        ),
      }))}
      empty="No browser is signed in."
    />
  );
}

function Journal() {
  const { data } = useJournal(true);
  const { data: check } = useJournalCheck(true);
  const verdict =
    check === undefined ? undefined : check.whole ? (
      <span className="text-goes-on">✓ As it was written: {count(check.entries)} entries.</span>
    ) : (
      <span className="font-semibold text-fails">✗ Entry {check.broken_at} was changed, or entries before it are missing.</span>
    );
  return (
    <Table
      id="journal"
      title="Journal"
      {...(verdict !== undefined && { says: verdict })}
      head={["when", "who", "from", "action", "subject", "result"]}
      rows={(data ?? []).map((e) => ({
        key: e.number,
        cells: [
          <When key="w" ms={e.at_ms} />,
          e.who,
          e.address,
          e.action,
          <span key="s" className="break-words">
            {e.subject}
          </span>,
          <span key="r" className={e.result === "done" ? "" : "text-fails"}>
            {e.result}
          </span>,
        ],
      }))}
      empty="Nothing was noted yet."
    />
  );
}

/** Changes one's own password, by the one until now. */
function OwnPassword() {
  const change = useChange();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    change.mutate({ method: "PUT", path: "/api/v1/me/password", body: { current: String(given.get("current")), new: String(given.get("new")) } });
  };
  return (
    <Sheet button="Change password" title="Change your password" says="Your other browsers are signed out." onOpenChange={() => change.reset()}>
      {change.isSuccess ? (
        <p role="status" className="text-goes-on">
          Done.
        </p>
      ) : (
        <form onSubmit={submit} className="flex flex-col gap-3">
          <label className="flex flex-col gap-1 text-sm text-soft">
            Password until now
            <input name="current" type="password" autoComplete="current-password" required className={FIELD} />
          </label>
          <label className="flex flex-col gap-1 text-sm text-soft">
            New password, 12 characters or more
            <input name="new" type="password" autoComplete="new-password" required minLength={12} maxLength={256} className={FIELD} />
          </label>
          {change.error !== null && (
            <p role="alert" className="text-sm text-fails">
              ▲ {change.error.message}
            </p>
          )}
          <button type="submit" className={`${BUTTON} self-start`} disabled={change.isPending}>
            Save
          </button>
        </form>
      )}
    </Sheet>
  );
}

export function PeoplePage() {
  const { data: me, error } = useMe();
  if (error !== null) return <Message tone="fails" heading title="This cannot be shown.">{error.message}</Message>;
  if (me === undefined) return null;
  const grants = me.grants ?? NO_GRANTS;
  const may = (word: string) => grants.includes(word);
  return (
    <>
      <h1 className="text-2xl font-semibold">People</h1>
      <div className="mt-2 flex flex-wrap items-baseline gap-x-3 text-sm">
        <span>
          You are signed in as <strong>{me.name}</strong> and may:
        </span>
        {grants.map((grant) => (
          <code key={grant} className="font-mono text-xs">
            {grant}
          </code>
        ))}
        {me.password && <OwnPassword />}
      </div>
      {may("people") && <People />}
      {may("people") && <Tokens />}
      <Sessions />
      {may("audit") && <Journal />}
    </>
  );
}
