/** Connects something: by what one has, to the first event read. */
import { type FormEvent, useState } from "react";

import { useFirstPlan } from "../../api/client";
import { freshKey, useConnect, useLookIntoFiles } from "../../api/sources";
import { useOutline } from "../../api/plan";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { count } from "../../lib/format";
import { Added, FileList, Kinds } from "../../parts/LookedFiles";
import { Wrong } from "../../parts/Message";
import { Sheet } from "../../parts/Sheet";
import { FirstEvents } from "./FirstEvents";

/** By what one has. */
const HAVE = [
  { says: "something that can POST", kind: "http", keyed: true },
  { says: "a program that speaks OTLP", kind: "otlp", keyed: true },
  { says: "a syslog daemon", kind: "syslog", keyed: false },
  { says: "a program that writes lines to a socket", kind: "tcp", keyed: false },
  { says: "log files on this host", kind: "file", keyed: false },
  { says: "another Rockrose", kind: "http", keyed: true },
];

const NAME = "[A-Za-z0-9][A-Za-z0-9_-]*";

/** What is done once something is connected: its name, and its key if it was given one. */
type Done = (name: string, key: string | null) => void;

/** Files are looked into before anything is added. */
function Files({ name, onDone }: { name: string; onDone: Done }) {
  const look = useLookIntoFiles();
  const connect = useConnect();
  const [paths, setPaths] = useState("");
  const found = look.data;
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    look.mutate({ paths: paths.split("\n").map((p) => p.trim()).filter((p) => p !== ""), name });
  };
  return (
    <>
      <form onSubmit={submit} className="flex flex-col items-start gap-2">
        <label className="flex w-full flex-col gap-1 text-sm text-soft">
          Patterns of the files, one on each line
          <textarea required rows={2} value={paths} onChange={(e) => setPaths(e.target.value)} spellCheck={false} placeholder="/var/log/ferries/*.log" className={`${FIELD} font-mono text-xs`} />
        </label>
        <button type="submit" className={BUTTON} disabled={look.isPending}>
          {look.isPending ? "Looking…" : "Look into them"}
        </button>
      </form>
      <Wrong says={look.error?.message} />
      {found !== undefined && (
        <>
          <p role="status" className="text-sm">
            {found.file_count === 0 ? "No file is there by that name." : `${count(found.file_count)} ${found.file_count === 1 ? "file" : "files"}${found.more ? ", and more" : ""}.`}
          </p>
          <FileList files={found.files} />
          <Kinds kinds={found.kinds} />
          {found.plan != null && (
            <>
              <Added text={found.plan} />
              <button type="button" className={`${BUTTON} self-start border-petal text-petal`} disabled={connect.isPending} onClick={() => connect.mutate({ name, text: found.plan ?? "", key: null }, { onSuccess: () => onDone(found.kinds[0]?.name ?? name, null) })}>
                Read them from now on
              </button>
            </>
          )}
          <Wrong says={connect.error?.problem.mistakes?.[0]?.message ?? connect.error?.message} />
        </>
      )}
    </>
  );
}

function Listening({ kind, keyed, name, onDone }: { kind: string; keyed: boolean; name: string; onDone: Done }) {
  const first = useFirstPlan(kind, "discard");
  const outline = useOutline(first.data?.text);
  const connect = useConnect();
  const [asksKey, setAsksKey] = useState(keyed);
  const [written, setWritten] = useState<string | null>(null);
  const offered = outline.data?.parts.find((p) => p.part.startsWith("source:") && p.kind === kind)?.text;
  const secret = `${name}-key`;
  const begin = offered?.replace(/^\[source\.[^\]]+\]/, `[source.${name}]`).trimEnd().concat(asksKey ? `\nkey = { secret = "${secret}" }\n` : "\n");
  const text = written ?? begin;
  if (text === undefined) return <p className="text-sm text-soft">Loading…</p>;
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const key = text.includes(`secret = "${secret}"`) ? { secret, value: freshKey() } : null;
    connect.mutate({ name, text, key }, { onSuccess: () => onDone(name, key?.value ?? null) });
  };
  return (
    <form onSubmit={submit} className="flex flex-col items-start gap-2">
      {keyed && (
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            checked={asksKey}
            onChange={(e) => {
              setAsksKey(e.target.checked);
              setWritten(null);
            }}
          />
          Senders must show a key, which is made now
        </label>
      )}
      <label className="flex w-full flex-col gap-1 text-sm text-soft">
        As it stands in the plan; other hosts can send once it listens on 0.0.0.0
        <textarea value={text} onChange={(e) => setWritten(e.target.value)} rows={Math.min(12, text.split("\n").length + 1)} spellCheck={false} className={`${FIELD} font-mono text-xs`} />
      </label>
      <button type="submit" className={`${BUTTON} border-petal text-petal`} disabled={connect.isPending}>
        {connect.isPending ? "Connecting…" : "Listen from now on"}
      </button>
      <Wrong says={connect.error?.problem.mistakes?.[0]?.message ?? connect.error?.message} />
    </form>
  );
}

function Choose({ onDone }: { onDone: Done }) {
  const [have, setHave] = useState(0);
  const [name, setName] = useState("");
  const chosen = HAVE[have] ?? { says: "", kind: "http", keyed: true };
  const called = new RegExp(`^${NAME}$`).test(name) ? name : `${chosen.kind}-in`;
  return (
    <>
      <fieldset className="grid grid-cols-2 gap-x-4 gap-y-1 text-sm max-md:grid-cols-1">
        <legend className="pb-1 text-soft">What do you have?</legend>
        {HAVE.map((h, i) => (
          <label key={h.says} className="flex items-center gap-2">
            <input type="radio" name="have" checked={have === i} onChange={() => setHave(i)} /> {h.says}
          </label>
        ))}
      </fieldset>
      <label className="flex flex-col gap-1 text-sm text-soft">
        What the source is to be called
        <input value={name} onChange={(e) => setName(e.target.value)} pattern={NAME} title="letters, digits, - and _" placeholder={`${chosen.kind}-in`} className={`${FIELD} w-64`} />
      </label>
      {chosen.kind === "file" ? <Files name={called} onDone={onDone} /> : <Listening key={`${have} ${called}`} kind={chosen.kind} keyed={chosen.keyed} name={called} onDone={onDone} />}
    </>
  );
}

export function Connect() {
  const [done, setDone] = useState<{ name: string; key: string | null } | null>(null);
  return (
    <Sheet
      button="Connect something"
      className={`${BUTTON} border-petal font-semibold text-petal`}
      title={done === null ? "Connect something" : `Source ${done.name}`}
      says={done === null ? "The source is added to the active plan and begins to listen at once. Until a route takes its events, they are counted in the remainder." : "Paste one of these lines where your events are. This page waits for the first of them."}
      onOpenChange={() => setDone(null)}
    >
      <div className="flex min-h-0 flex-col gap-3 overflow-y-auto" tabIndex={0} aria-label={done === null ? "What is connected" : "The first events"}>
        {done === null ? <Choose onDone={(name, key) => setDone({ name, key })} /> : <FirstEvents name={done.name} sentKey={done.key} />}
      </div>
    </Sheet>
  );
}
