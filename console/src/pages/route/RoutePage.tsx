/** One route: its sentences, what each removes, and its events before and after. */
import { Link, useParams } from "@tanstack/react-router";
import type { ReactNode } from "react";

import { type FlowRoute, useFlow } from "../../api/client";
import { bytes, count, share } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { Message } from "../../parts/Message";
import { Minutes } from "../../parts/Minutes";
import { ByteRate, Rate } from "../../parts/Quantity";
import { Sentence } from "../../parts/Sentence";
import { Step } from "../../parts/Step";
import { Tail } from "../../parts/Tail";

function Figure({ label, children, note }: { label: string; children: ReactNode; note?: string }) {
  return (
    <div>
      <dt className="text-sm text-soft">{label}</dt>
      <dd className="num text-lg font-semibold">{children}</dd>
      {note !== undefined && <dd className="num text-sm text-soft">{note}</dd>}
    </div>
  );
}

function Figures({ route }: { route: FlowRoute }) {
  const saved = route.taken.bytes - route.out.bytes;
  // What steps hold back is neither out nor gone.
  const gone = route.taken.events - route.out.events - route.steps.reduce((sum, step) => sum + step.held.events, 0);
  const held = route.steps.reduce((sum, step) => sum + step.held.events_per_second, 0);
  const goneNow = Math.max(0, route.taken.events_per_second - route.out.events_per_second - held);
  const savedNow = route.taken.bytes_per_second - route.out.bytes_per_second;
  return (
    <dl className="grid grid-cols-4 gap-6 max-md:grid-cols-2">
      <Figure label="in" note={`${count(route.taken.events)} in total`}>
        <Rate gauge={route.taken} className="text-arrive" /> <ByteRate gauge={route.taken} className="text-sm font-normal text-soft" />
      </Figure>
      <Figure label="out" note={`${count(route.out.events)} in total`}>
        <Rate gauge={route.out} className="text-goes-on" /> <ByteRate gauge={route.out} className="text-sm font-normal text-soft" />
      </Figure>
      <Figure label="events removed" note={`${count(gone)} in total`}>
        <span className="text-removed">{share(goneNow, route.taken.events_per_second) || "–"}</span>
      </Figure>
      <Figure label={savedNow >= 0 ? "bytes saved" : "bytes added"} note={`${bytes(Math.abs(saved))} ${saved >= 0 ? "saved" : "added"} in total`}>
        <span className={savedNow >= 0 ? "text-removed" : ""}>{share(Math.abs(savedNow), route.taken.bytes_per_second) || "–"}</span>
      </Figure>
    </dl>
  );
}

export function RoutePage() {
  const { name } = useParams({ from: "/routes/$name" });
  const { frozen } = useFrozen();
  const { data: flow, error } = useFlow(frozen);
  if (flow === undefined) {
    return error === null ? <Message title="Loading the route…" /> : <Message tone="fails" title={`The route cannot be shown: ${error.message}.`} />;
  }
  const route = flow.routes.find((r) => r.name === name);
  if (route === undefined) {
    return (
      <Message title={`The active plan has no route “${name}”.`}>
        <Link to="/" className="text-petal underline">
          Back to the flow
        </Link>
      </Message>
    );
  }
  return (
    <div className="flex flex-col gap-5">
      <div>
        <p className="text-sm text-soft">
          <Link to="/" className="text-petal underline">
            Flow
          </Link>{" "}
          / route
        </p>
        <h1 className="text-xl font-semibold">{route.name}</h1>
      </div>
      <Figures route={route} />
      <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-5 max-md:grid-cols-1">
        <section aria-label="Sentences" className="card p-4">
          <dl className="grid grid-cols-[3.5rem_1fr] gap-y-1 text-sm">
            <dt className="text-soft">from</dt>
            <dd>{route.from.join(", ")}</dd>
            <dt className="text-soft">when</dt>
            <dd>
              <Sentence condition text={route.when === "" ? "every event" : route.when} />
            </dd>
            <dt className="pt-1 text-soft">do</dt>
            <dd>{route.steps.length === 0 ? <span className="text-soft">nothing</span> : <ol>{route.steps.map((s) => <Step key={s.position} step={s} taken={route.taken} />)}</ol>}</dd>
            <dt className="text-soft">to</dt>
            <dd>{route.to.join(", ")}</dd>
          </dl>
        </section>
        <section aria-label="The last hour" className="card p-4">
          <h2 className="pb-2 text-sm font-semibold text-soft">The last hour</h2>
          <Minutes place="route" name={route.name} />
        </section>
      </div>
      <section className="card flex h-[26rem] flex-col p-4">
        <h2 className="pb-2 text-sm font-semibold text-soft">Events, before and after</h2>
        <Tail key={route.name} point={`route:${route.name}`} what={`route ${route.name}`} />
      </section>
    </div>
  );
}
