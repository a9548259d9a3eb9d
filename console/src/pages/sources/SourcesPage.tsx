/** Is each stream arriving, fresh and readable? How do I point something at it? */
import { Link } from "@tanstack/react-router";

import { type Source, useFlow, useSources } from "../../api/client";
import { useChange } from "../../api/people";
import { useNewKey } from "../../api/sources";
import { BUTTON } from "../../design/buttons";
import { age, count, share } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { useMay } from "../../lib/grants";
import { Message } from "../../parts/Message";
import { ByteRate, Rate } from "../../parts/Quantity";
import { Twice } from "../../parts/Twice";
import { Actions, Files, Troubles, fresh } from "../flow/Senders";
import { Connect } from "./Connect";
import { Lines } from "./Lines";
import { WhoSends } from "./WhoSends";

/** Kinds of sources that tell what the service itself notes. */
const OWN = ["journal", "alerts"];

/** What each state is called and looks like; those in trouble stand first. */
const STATES: Record<Source["state"], { mark: string; word: string; colour: string; rank: number }> = {
  troubled: { mark: "▲", word: "in trouble", colour: "text-fails", rank: 0 },
  paused: { mark: "■", word: "paused", colour: "text-waits", rank: 1 },
  quiet: { mark: "○", word: "quiet", colour: "text-waits", rank: 2 },
  unheard: { mark: "○", word: "not heard yet", colour: "text-soft", rank: 3 },
  flowing: { mark: "●", word: "arriving", colour: "text-goes-on", rank: 4 },
};

function Key({ source }: { source: Source }) {
  const make = useNewKey(source.name);
  const change = useChange();
  return (
    <span className="flex flex-wrap items-center gap-2 text-sm">
      <Twice says="New key" asks="Make a new key? The old one stops working." onDo={() => make.mutate(undefined)} />
      <Twice says="Revoke" asks="Revoke it? Nobody can send until there is a new one." onDo={() => change.mutate({ method: "DELETE", path: `/api/v1/sources/${encodeURIComponent(source.name)}/key` })} />
      {make.data !== undefined && (
        <span role="status">
          The new key, shown this once: <code className="rounded bg-raised px-2 py-0.5 font-mono text-xs break-all">{make.data.key}</code>
        </span>
      )}
      {change.isSuccess && <span role="status">Revoked.</span>}
      {(make.error ?? change.error) !== null && (
        <span role="alert" className="text-fails">
          ▲ {(make.error ?? change.error)?.message}
        </span>
      )}
    </span>
  );
}

function Entry({ source: s, now, may }: { source: Source; now: number; may: (word: string) => boolean }) {
  const state = STATES[s.state];
  return (
    <article aria-label={`Source ${s.name}`} className={`card flex flex-col gap-2 p-4 ${s.state === "troubled" ? "border-fails" : ""}`}>
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)] gap-x-6 gap-y-1 max-md:grid-cols-1">
        <div className="min-w-0">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <h2 className="text-lg font-semibold">{s.name}</h2>
            <span className="text-sm text-soft">{s.kind}</span>
            <Link to="/events" search={{ at: `source:${s.name}` }} className="text-sm text-petal underline" aria-label={`Events of ${s.name}`}>
              events
            </Link>
            <Link to="/plan" search={{ part: `source:${s.name}` }} className="text-sm text-petal underline" aria-label={`${s.name} in the plan`}>
              in the plan
            </Link>
          </div>
          <p className="truncate font-mono text-xs text-soft" title={s.listen}>
            {s.listen}
          </p>
        </div>
        <dl className="grid grid-cols-[6rem_1fr] content-start gap-x-3 text-sm">
          <dt className="text-soft">arriving?</dt>
          <dd>
            <span className={state.colour}>
              {state.mark} {state.word}
            </span>{" "}
            <span className="num text-soft">
              <Rate gauge={s.received} />, <ByteRate gauge={s.received} />
            </span>
          </dd>
          <dt className="text-soft">fresh?</dt>
          <dd>{fresh(s)}</dd>
          <dt className="text-soft">readable?</dt>
          <dd>{s.received.events === 0 ? "nothing came yet" : s.unreadable.events === 0 ? <span className="text-goes-on">✓ all of it</span> : <span className="text-fails">▲ {share(s.unreadable.events, s.received.events)} is not: {count(s.unreadable.events)}, in quarantine</span>}</dd>
        </dl>
        <p className="text-sm text-soft">
          {s.says}
          {typeof s.last_event_ms === "number" && `; the last event came ${age(now - s.last_event_ms)} ago`}
          {typeof s.last_from === "string" && ` from ${s.last_from}`}
          {s.connections > 0 && (s.connections === 1 ? "; one connection" : `; ${count(s.connections)} connections`)}
          {s.paused_by != null && `; paused by ${s.paused_by}`}
          {s.keyed ? "; senders show a key" : s.kind === "file" || OWN.includes(s.kind) ? "" : s.kind === "agents" ? "; agents show the certificate that they were given" : "; senders need no key"}
        </p>
      </div>
      <Troubles source={s} now={now} />
      <Files source={s} />
      <div className="flex flex-wrap items-start gap-3 border-t border-line pt-2">
        {may("operate") && <Actions source={s} told={false} />}
        {s.keyed && may("secrets") && <Key source={s} />}
        {!OWN.includes(s.kind) && <WhoSends source={s.name} />}
        {s.send.length > 0 && <details className="text-sm open:basis-full">
          <summary className={`${BUTTON} inline-block cursor-pointer`}>Point something at it</summary>
          <div className="pt-2">
            <Lines source={s} />
          </div>
        </details>}
      </div>
    </article>
  );
}

export function SourcesPage() {
  const { frozen } = useFrozen();
  const sources = useSources();
  const flow = useFlow(frozen);
  const may = useMay();
  if (sources.data === undefined) return sources.error === null ? <Message title="Loading the sources…" /> : <Message tone="fails" heading title={`The sources cannot be shown: ${sources.error.message}.`} />;
  // What the service itself tells is silent as long as there is nothing to tell.
  const rank = (s: Source) => (OWN.includes(s.kind) && s.state !== "troubled" ? 9 : STATES[s.state].rank);
  const sorted = [...sources.data].sort((a, b) => rank(a) - rank(b));
  const trouble = sorted.filter((s) => s.state === "troubled").length;
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-xl font-semibold">Sources</h1>
        {sorted.length > 0 && (
          <p className="text-sm" aria-live="polite">
            {trouble > 0 ? <span className="text-fails">▲ {count(trouble)} of {count(sorted.length)} {trouble === 1 ? "is" : "are"} in trouble.</span> : <span className="text-goes-on">✓ None of {count(sorted.length)} is in trouble.</span>}
          </p>
        )}
        {may("change") && (
          <span className="ml-auto">
            <Connect />
          </span>
        )}
      </div>
      {sorted.length === 0 && <Message title="Nothing is connected yet.">{may("change") ? "Connect something: a program, a daemon, files on this host. The first event shows here seconds later." : "Your grants do not let you connect anything."}</Message>}
      {sorted.map((s) => (
        <Entry key={s.name} source={s} now={flow.data?.now_ms ?? sources.dataUpdatedAt} may={may} />
      ))}
    </div>
  );
}
