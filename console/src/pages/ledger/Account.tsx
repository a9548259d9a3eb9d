/** One source's, route's or destination's account, line by line. */
import { Link } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";

import type { DestinationCost, LedgerAnswer, LedgerEntry } from "../../api/client";
import { count, money } from "../../lib/format";
import { Sentence } from "../../parts/Sentence";

type Sum = { events: number; bytes: number };
type Place = "source" | "route" | "destination";

function Line({ label, events, bytes, tone = "plain" }: { label: ReactNode; events: number | null; bytes: number; tone?: "plain" | "sum" | "less" | "part" | "inner" }) {
  const look = { plain: "", sum: "font-semibold border-t border-line-strong", less: "text-removed", part: "text-soft", inner: "text-soft" }[tone];
  return (
    <tr className={look}>
      <th scope="row" className={`py-0.5 pr-3 text-left ${tone === "sum" ? "" : "font-normal"} ${tone === "part" ? "pl-4" : tone === "inner" ? "pl-8" : ""}`}>
        {label}
      </th>
      <td className="num py-0.5 pl-3 text-right align-baseline">{events === null ? "" : count(events)}</td>
      <td className="num py-0.5 pl-3 text-right align-baseline">{count(bytes)}</td>
    </tr>
  );
}

/** What something costs; the exact amount in the title. */
function MoneyLine({ label, amount, currency }: { label: string; amount: string; currency: string }) {
  return (
    <tr className="text-soft">
      <th scope="row" className="py-0.5 pr-3 pl-4 text-left font-normal">
        {label}
      </th>
      <td />
      <td className="num py-0.5 pl-3 text-right align-baseline font-medium text-ink" title={`${amount} ${currency}`}>
        {money(Number(amount), currency)}
      </td>
    </tr>
  );
}

/** Of a sum that comes from elsewhere or goes there: the account in which it stands as well, and how much of it. */
export interface Part extends Sum {
  place: Place;
  name: string;
}

/** The element of an account, to which a sum is followed. */
export const idOf = (place: Place, name: string) => `account-${place}-${encodeURIComponent(name)}`;

/** A line whose sum can be followed to the accounts at its other end. */
function Followed({ label, sum, way, parts, tone, follow }: { label: string; sum: Sum; /** How the accounts are spoken of, such as `from`. */ way: string; parts: Part[]; tone: "plain" | "sum" | "part"; follow: (to: Part) => void }) {
  const [open, setOpen] = useState(false);
  const some = parts.filter((p) => p.events !== 0 || p.bytes !== 0).sort((a, b) => b.bytes - a.bytes);
  if (some.length === 0) return <Line label={label} events={sum.events} bytes={sum.bytes} tone={tone} />;
  const button = (
    <button type="button" aria-expanded={open} onClick={() => setOpen(!open)} className="text-left hover:text-petal">
      {label} <span aria-hidden="true" className="text-soft">{open ? "▾" : "▸"}</span>
    </button>
  );
  return (
    <>
      <Line label={button} events={sum.events} bytes={sum.bytes} tone={tone} />
      {open &&
        some.map((part) => (
          <Line
            key={`${part.place} ${part.name}`}
            tone="inner"
            events={part.events}
            bytes={part.bytes}
            label={
              <button type="button" onClick={() => follow(part)} className="text-left underline hover:text-petal">
                {way} {part.place} {part.name}
              </button>
            }
          />
        ))}
    </>
  );
}

export function Account({ place, name, rows, through, ledger, whole, cost, follow }: { place: Place; name: string; /** Its own rows, and those of the accounts behind it that came through it. */ rows: LedgerEntry[]; through: LedgerEntry[]; ledger: LedgerAnswer; whole: boolean; /** What was spent here, if it has a price. */ cost: DestinationCost | undefined; /** Goes to another account. */ follow: (to: Part) => void }) {
  const sum = (measure: string, only: (r: LedgerEntry) => boolean = () => true): Sum =>
    rows.filter((r) => r.measure === measure && only(r)).reduce((t, r) => ({ events: t.events + r.events, bytes: t.bytes + r.bytes }), { events: 0, bytes: 0 });
  const steps = [...new Map(rows.filter((r) => r.position > 0).map((r) => [`${r.position} ${r.sentence}`, r])).values()].sort((a, b) => Number(b.current) - Number(a.current) || a.position - b.position);
  /** The parts of a sum by the account at its other end, as rows with this measure tell it. */
  const parts = (of: LedgerEntry[], measure: string, other: (r: LedgerEntry) => { place: Place; name: string }): Part[] => {
    const found = new Map<string, Part>();
    for (const row of of.filter((r) => r.measure === measure)) {
      const at = other(row);
      const before = found.get(at.name);
      found.set(at.name, { ...at, events: (before?.events ?? 0) + row.events, bytes: (before?.bytes ?? 0) + row.bytes });
    }
    return [...found.values()];
  };
  const plain = (label: string, s: Sum, tone: "plain" | "sum" | "part" = "plain") => <Line key={label} label={label} events={s.events} bytes={s.bytes} tone={tone} />;
  const stepLines = steps.flatMap((step) => {
    const of = (measure: string) => sum(measure, (r) => r.position === step.position && r.sentence === step.sentence);
    const gone = step.current ? null : <span className="text-soft"> {step.last_revision == null ? "(earlier revision)" : `(to revision ${step.last_revision})`}</span>;
    const [removed, changed, held] = [of("removed"), of("changed"), of("held")];
    const key = `${step.position} ${step.sentence}`;
    const lines = [];
    if (removed.events > 0) lines.push(<Line key={`${key} removed`} label={<>− <Sentence text={step.sentence} />{gone}</>} events={-removed.events} bytes={-removed.bytes} tone="less" />);
    if (held.events !== 0) lines.push(<Line key={`${key} held`} label={<>‖ <Sentence text={step.sentence} /> <span className="text-soft">holds back</span></>} events={-held.events} bytes={-held.bytes} />);
    if (changed.events > 0) lines.push(<Line key={`${key} changed`} label={<>± <Sentence text={step.sentence} />{gone}</>} events={null} bytes={-changed.bytes} />);
    return lines;
  });
  const quarantined = sum("quarantined");
  const rewritten = sum("rewritten");
  const discarded = sum("discarded");
  const spilled = sum("spilled");
  const waiting = ledger.waiting.find((w) => w.destination === name);
  return (
    <article id={idOf(place, name)} tabIndex={-1} aria-label={`The account of ${place} ${name}`} className="card scroll-mt-4 p-4 focus:outline-2 focus:outline-petal">
      <h2 className="pb-1 font-semibold">
        <span className="font-normal text-soft">{place} </span>
        {place === "route" ? (
          <Link to="/routes/$name" params={{ name }} className="hover:text-petal underline">
            {name}
          </Link>
        ) : (
          name
        )}
      </h2>
      <table className="w-full text-sm">
        <thead>
          <tr className="text-xs text-soft">
            <th scope="col" className="text-left font-normal">
              <span className="sr-only">line</span>
            </th>
            <th scope="col" className="pl-3 text-right font-normal">
              events
            </th>
            <th scope="col" className="pl-3 text-right font-normal">
              bytes
            </th>
          </tr>
        </thead>
        <tbody>
          {place === "source" && (
            <>
              {sum("lost").events > 0 && plain("lost before they were received", sum("lost"), "part")}
              {plain("received", sum("received"))}
              {quarantined.events > 0 && <Line label="− unreadable, in quarantine" events={-quarantined.events} bytes={-quarantined.bytes} tone="less" />}
              {rewritten.events > 0 && <Line label="± written as JSON lines" events={null} bytes={-rewritten.bytes} />}
              {stepLines}
              {plain("= passed on", sum("passed"), "sum")}
              <Followed label="taken by routes" sum={sum("routed")} way="by" parts={parts(through, "taken", (r) => ({ place: "route", name: r.name }))} tone="part" follow={follow} />
              {plain("remainder, taken by none", sum("remainder"), "part")}
            </>
          )}
          {place === "route" && (
            <>
              <Followed label="taken" sum={sum("taken")} way="from" parts={parts(rows, "taken", (r) => ({ place: "source", name: r.via }))} tone="plain" follow={follow} />
              {stepLines}
              <Followed label="= out" sum={sum("out")} way="to" parts={parts(through, "offered", (r) => ({ place: "destination", name: r.name }))} tone="sum" follow={follow} />
            </>
          )}
          {place === "destination" && (
            <>
              <Followed label="offered by routes" sum={sum("offered")} way="by" parts={parts(rows, "offered", (r) => ({ place: "route", name: r.via }))} tone="plain" follow={follow} />
              {stepLines}
              {plain("= queued", sum("enqueued"), "sum")}
              {cost !== undefined && <MoneyLine label={`costs, at ${cost.price}`} amount={cost.sent} currency={cost.currency} />}
              {cost?.standing != null && Number(cost.standing) > 0 && <MoneyLine label="paid by the month, for this time" amount={cost.standing} currency={cost.currency} />}
              {plain("delivered", sum("delivered"), "part")}
              {quarantined.events > 0 && plain("refused, in quarantine", quarantined, "part")}
              {discarded.events > 0 && plain("discarded", discarded, "part")}
              {spilled.events > 0 && plain("spilled to another", spilled, "part")}
              {whole && plain("waiting", { events: waiting?.events ?? 0, bytes: waiting?.bytes ?? 0 }, "part")}
            </>
          )}
        </tbody>
      </table>
    </article>
  );
}
