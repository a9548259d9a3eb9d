/** What is in there: a strip for each field, its values as segments by share. Arrow keys go through them; Enter adds one to the sentence, a hyphen adds it with `not`. */
import type { KeyboardEvent } from "react";

import type { FieldSummary, FieldsAnswer } from "../../api/survey";
import { bytes, clock, count, share, utc } from "../../lib/format";
import { fieldName, literal } from "../../lib/sentences";
import type { Column, Order } from "./looked";

/** So many fields are drawn until one asks for all. */
const DRAWN = 14;

const ORDERS: Record<Order, (a: FieldSummary, b: FieldSummary) => number> = {
  tells: (a, b) => (b.tells ?? 0) - (a.tells ?? 0) || b.bytes - a.bytes,
  bytes: (a, b) => b.bytes - a.bytes,
  name: (a, b) => a.name.localeCompare(b.name),
};

interface Segment {
  label: string;
  part: number;
  /** The condition that finds it; null where nothing can be asked for. */
  condition: string | null;
  kind: "value" | "others" | "missing";
}

/** Narrower segments are put together. */
const NARROWEST = 0.008;

function segments(field: FieldSummary, events: number): Segment[] {
  const isNumber = field.kinds[0]?.what === "number";
  const name = fieldName(field.name);
  const found: Segment[] = [];
  let rest = field.events;
  for (const { what, events: times } of field.top) {
    if (times / events < NARROWEST) break;
    rest -= times;
    found.push({ label: what, part: times / events, condition: what.includes("***") ? null : `${name} = ${literal(what, isNumber)}`, kind: "value" });
  }
  if (rest / events > 0.001) found.push({ label: found.length === 0 ? `${count(field.distinct)} different, such as ${field.example}` : `${count(Math.max(1, field.distinct - found.length))} others`, part: rest / events, condition: null, kind: "others" });
  const missing = events - field.events;
  if (missing / events > 0.001) found.push({ label: "not there", part: missing / events, condition: `not (${name} exists)`, kind: "missing" });
  return found;
}

const TINTS = ["bg-arrive/35", "bg-arrive/25", "bg-arrive/18", "bg-arrive/12"];

function Bars({ of, says }: { of: number[]; says: string }) {
  const most = Math.max(1, ...of);
  return (
    <span role="img" aria-label={says} title={says} className="flex h-full w-full items-end gap-px bg-raised">
      {of.map((n, i) => (
        <span key={i} className="flex-1 bg-arrive" style={{ height: n === 0 ? 0 : `${Math.max(8, (100 * n) / most)}%` }} />
      ))}
    </span>
  );
}

function number(n: number): string {
  return Math.abs(n) >= 1000 || Number.isInteger(n) ? count(n) : n.toPrecision(3);
}

/** How a field is drawn: times and numbers of which hardly one comes twice by how they are spread, anything else by its values. */
function drawn(field: FieldSummary, events: number): "numbers" | "times" | "values" {
  if ((field.rhythm ?? []).length > 0) return "times";
  const listed = field.top.reduce((sum, v) => sum + v.events, 0);
  return field.numbers != null && (field.shape ?? []).length > 1 && listed < 0.6 * events ? "numbers" : "values";
}

function Strip({ field, events, column, onAdd, onColumn }: { field: FieldSummary; events: number; column: boolean; onAdd: (condition: string, not: boolean) => void; onColumn: () => void }) {
  const form = drawn(field, events);
  const rhythm = field.rhythm ?? [];
  const [n, first, last] = [field.numbers, rhythm[0], rhythm.at(-1)];
  return (
    <li className="grid grid-cols-[11rem_minmax(0,1fr)_3.5rem_3.5rem] items-center gap-x-2 max-md:grid-cols-[8rem_minmax(0,1fr)]">
      <button type="button" aria-pressed={column} onClick={onColumn} aria-label={`Column ${field.name}`} title={column ? "Take the column away" : "Show it as a column beside the events"} className="truncate rounded text-left font-mono text-xs hover:underline aria-pressed:font-semibold aria-pressed:text-petal">
        {field.name}
        {field.personal.length > 0 && (
          <span className="ml-1 font-sans text-fails" title={`personal data: ${field.personal.map((p) => p.detector).join(", ")}`}>
            ▲
          </span>
        )}
      </button>
      <div data-strip role="group" aria-label={field.name} className="flex h-5 min-w-0 gap-px overflow-hidden rounded-sm">
        {form === "numbers" && n != null && <Bars of={field.shape ?? []} says={`from ${number(n.least)} to ${number(n.most)}; half of them up to ${number(n.p50)}, nine in ten up to ${number(n.p90)}`} />}
        {form === "times" && first !== undefined && last !== undefined && <Bars of={rhythm.map((s) => s.events)} says={`from ${clock(first.at_ms)} to ${clock(last.at_ms)}; in UTC from ${utc(first.at_ms)}`} />}
        {form === "values" &&
          segments(field, events).map((s, i) => (
            <button
              key={`${s.kind} ${s.label}`}
              type="button"
              data-segment
              tabIndex={i === 0 ? 0 : -1}
              aria-disabled={s.condition === null}
              aria-label={`${field.name}: ${s.label}, ${share(s.part, 1)}`}
              title={`${s.label}: ${share(s.part, 1)}${s.condition === null ? "" : `\nclick: ${s.condition}\nAlt-click or hyphen: not`}`}
              style={{ flexGrow: s.part, flexBasis: 0 }}
              onClick={(e) => {
                if (s.condition !== null) onAdd(s.condition, e.altKey);
              }}
              onKeyDown={(e) => {
                if (e.key === "-" && s.condition !== null) {
                  e.preventDefault();
                  onAdd(s.condition, true);
                }
              }}
              className={`min-w-[3px] overflow-hidden px-1 text-left text-xs leading-5 text-ellipsis whitespace-nowrap hover:underline focus-visible:outline-offset-[-2px] aria-disabled:cursor-default aria-disabled:no-underline ${s.kind === "missing" ? "border border-dashed border-line-strong leading-4 text-soft italic" : s.kind === "others" ? "bg-raised text-soft" : TINTS[Math.min(i, TINTS.length - 1)]}`}
            >
              {s.part > 0.06 ? s.label : ""}
            </button>
          ))}
      </div>
      <span className="num text-right text-xs text-soft max-md:hidden" title="In so many of the events">
        {share(field.share, 1)}
      </span>
      <span className="num text-right text-xs text-soft max-md:hidden" title={`Of all bytes: ${bytes(field.bytes)}`}>
        {share(field.bytes_share, 1)}
      </span>
    </li>
  );
}

/** Left and right within a strip, up and down between strips. */
function move(e: KeyboardEvent<HTMLElement>) {
  const at = e.target instanceof HTMLElement ? e.target.closest<HTMLElement>("[data-segment]") : null;
  const strip = at?.closest("[data-strip]");
  if (at == null || strip == null || !e.key.startsWith("Arrow")) return;
  const all = [...e.currentTarget.querySelectorAll("[data-strip]")].filter((s) => s.querySelector("[data-segment]") !== null);
  const within = [...strip.querySelectorAll<HTMLElement>("[data-segment]")];
  const here = within.indexOf(at);
  const other = all[all.indexOf(strip) + (e.key === "ArrowDown" ? 1 : -1)];
  const next = e.key === "ArrowRight" ? within[here + 1] : e.key === "ArrowLeft" ? within[here - 1] : other?.querySelector<HTMLElement>("[data-segment]");
  if (next == null) return;
  e.preventDefault();
  next.focus();
}

interface StripsProps {
  fields: FieldsAnswer;
  order: Order;
  all: boolean;
  columns: Column[];
  onAll: () => void;
  onAdd: (condition: string, not: boolean) => void;
  onColumn: (name: string) => void;
}

export function Strips({ fields, order, all, columns, onAll, onAdd, onColumn }: StripsProps) {
  const sorted = [...fields.fields].sort(ORDERS[order]);
  const list = all ? sorted : sorted.slice(0, DRAWN);
  return (
    <>
      <div aria-hidden="true" className="grid grid-cols-[11rem_minmax(0,1fr)_3.5rem_3.5rem] gap-x-2 pb-1 text-right text-xs text-soft max-md:hidden">
        <span />
        <span />
        <span>in</span>
        <span>of bytes</span>
      </div>
      <ul aria-label="Fields" className="flex flex-col gap-1" onKeyDown={move}>
        {list.map((f) => (
          <Strip key={f.name} field={f} events={fields.events} column={columns.some((c) => c.name === f.name)} onAdd={onAdd} onColumn={() => onColumn(f.name)} />
        ))}
      </ul>
      {sorted.length > DRAWN && (
        <button type="button" onClick={onAll} className="mt-2 text-sm text-petal underline">
          {all ? `Show the first ${DRAWN}` : `Show all ${count(sorted.length)} fields`}
        </button>
      )}
      {fields.left_out > 0 && <p className="text-sm text-soft">{count(fields.left_out)} values are of fields that there was no room for.</p>}
    </>
  );
}
