/** The events, newest first; time runs downwards beside them, so that a burst is seen where its events stand. */
import { DropdownMenu } from "radix-ui";
import { Fragment, useState } from "react";

import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { ITEM, MENU } from "../../design/menu";
import { fieldsOf, messageOf, severityOf, shown, valueOf } from "../../lib/events";
import { clock, count, utc } from "../../lib/format";
import { fieldName, literal } from "../../lib/sentences";
import { Answer } from "../../parts/Why";
import type { Column } from "./looked";

export interface Row {
  key: string;
  at_ms: number;
  source: string | null;
  stands_for: number;
  event: unknown;
}

/** So many rows stand there at once. */
const ROWS = 150;
/** What a stretch of time may be long, in milliseconds. */
const STEPS = [1_000, 5_000, 10_000, 30_000, 60_000, 300_000, 600_000, 1_800_000, 3_600_000, 14_400_000, 86_400_000];
/** Events are put into about so many stretches. */
const STRETCHES = 30;

const LOUD: Record<string, string> = { error: "text-fails", fatal: "text-fails", critical: "text-fails", warn: "text-waits", warning: "text-waits" };

function stretches(rows: Row[]): { step: number; events: Map<number, number>; most: number } {
  const times = rows.map((r) => r.at_ms);
  const span = Math.max(...times) - Math.min(...times);
  const step = STEPS.find((s) => span / s <= STRETCHES) ?? 86_400_000;
  const events = new Map<number, number>();
  for (const r of rows) events.set(Math.floor(r.at_ms / step), (events.get(Math.floor(r.at_ms / step)) ?? 0) + r.stands_for);
  return { step, events, most: Math.max(1, ...events.values()) };
}

/** The moment at which a stretch begins, with how much came in it. */
function Stretch({ at, events, most, step }: { at: number; events: number; most: number; step: number }) {
  const says = `${count(events)} in ${step < 60_000 ? `${step / 1000} s` : `${step / 60_000} min`}`;
  return (
    <div className="self-start" title={says}>
      <time className="num block text-xs text-soft" title={utc(at)}>
        {clock(at)}
      </time>
      <span className="flex items-center gap-1">
        <span aria-hidden="true" className="inline-block h-1.5 rounded-sm bg-arrive" style={{ width: `${Math.max(2, (56 * events) / most)}px` }} />
        <span className="num text-xs text-soft">{count(events)}</span>
      </span>
    </div>
  );
}

function Unfolded({ row, columns, onAdd, onColumn }: { row: Row; columns: Column[]; onAdd: (condition: string, not: boolean) => void; onColumn: (name: string) => void }) {
  const [why, setWhy] = useState(false);
  return (
    <div className="mt-1 mb-2 rounded bg-raised p-2">
      <dl className="grid grid-cols-[minmax(6rem,max-content)_minmax(0,1fr)] gap-x-3 gap-y-0.5 text-xs">
        {fieldsOf(row.event).map(([name, value]) => {
          const simple = typeof value === "string" || typeof value === "number" || typeof value === "boolean";
          const condition = simple && !shown(value).includes("***") ? `${fieldName(name)} = ${literal(shown(value), typeof value === "number")}` : null;
          return (
            <Fragment key={name}>
              <dt className="font-mono text-soft">{name}</dt>
              <dd className="flex flex-wrap items-start gap-x-2 gap-y-1">
                <span className="min-w-0 flex-1 font-mono break-words">{shown(value)}</span>
                <span className="flex gap-1">
                  {condition !== null && (
                    <>
                      <button type="button" className={SMALL_BUTTON} aria-label={`Only events with ${condition}`} onClick={() => onAdd(condition, false)}>
                        only
                      </button>
                      <button type="button" className={SMALL_BUTTON} aria-label={`Only events that do not meet ${condition}`} onClick={() => onAdd(condition, true)}>
                        not
                      </button>
                    </>
                  )}
                  <button type="button" className={SMALL_BUTTON} aria-pressed={columns.some((c) => c.name === name)} aria-label={`Show ${name} as a column`} onClick={() => onColumn(name)}>
                    column
                  </button>
                </span>
              </dd>
            </Fragment>
          );
        })}
      </dl>
      {row.source !== null && (
        <div className="mt-2 border-t border-line pt-2">
          <button type="button" className={BUTTON} aria-expanded={why} onClick={() => setWhy(!why)}>
            Why it goes where it goes
          </button>
          {why && <Answer source={row.source} event={JSON.stringify(row.event)} />}
        </div>
      )}
    </div>
  );
}

function Head({ column, index, columns, onColumns }: { column: Column; index: number; columns: Column[]; onColumns: (columns: Column[]) => void }) {
  const put = (to: number) => {
    const rest = columns.filter((_, i) => i !== index);
    onColumns([...rest.slice(0, to), column, ...rest.slice(to)]);
  };
  const wide = (by: number) => onColumns(columns.map((c, i) => (i === index ? { ...c, width: Math.min(60, Math.max(6, c.width + by)) } : c)));
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="truncate rounded text-left font-mono text-xs text-soft hover:text-ink" aria-label={`More for the column ${column.name}`}>
        {column.name} ▾
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="start" sideOffset={4} className={MENU}>
          <DropdownMenu.Item className={ITEM} disabled={index === 0} onSelect={() => put(index - 1)}>
            Move left
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} disabled={index === columns.length - 1} onSelect={() => put(index + 1)}>
            Move right
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={() => wide(6)}>
            Wider
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={() => wide(-6)}>
            Narrower
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ITEM} onSelect={() => onColumns(columns.filter((_, i) => i !== index))}>
            Take away
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

interface EventListProps {
  rows: Row[];
  columns: Column[];
  onColumns: (columns: Column[]) => void;
  onAdd: (condition: string, not: boolean) => void;
  onColumn: (name: string) => void;
}

export function EventList({ rows, columns, onColumns, onAdd, onColumn }: EventListProps) {
  const [open, setOpen] = useState<string | null>(null);
  if (rows.length === 0) return null;
  const { step, events, most } = stretches(rows);
  const grid = { gridTemplateColumns: `minmax(12rem,1fr) ${columns.map((c) => `${c.width}ch`).join(" ")}` };
  const groups: { slot: number; rows: Row[] }[] = [];
  for (const row of rows.slice(0, ROWS)) {
    const slot = Math.floor(row.at_ms / step);
    if (groups.at(-1)?.slot === slot) groups.at(-1)?.rows.push(row);
    else groups.push({ slot, rows: [row] });
  }
  return (
    <div className="overflow-x-auto">
      {columns.length > 0 && (
        <div className="grid grid-cols-[6.5rem_minmax(0,1fr)] gap-x-3 border-b border-line pb-1">
          <span />
          <div className="grid gap-x-3 px-1" style={grid}>
            <span className="text-xs text-soft">message</span>
            {columns.map((c, i) => (
              <Head key={c.name} column={c} index={i} columns={columns} onColumns={onColumns} />
            ))}
          </div>
        </div>
      )}
      <ol aria-label="Events, newest first">
        {groups.map(({ slot, rows: of }) => (
          <li key={slot} className="grid grid-cols-[6.5rem_minmax(0,1fr)] gap-x-3 border-b border-line py-1">
            <Stretch at={slot * step} events={events.get(slot) ?? 0} most={most} step={step} />
            <ul>
              {of.map((row) => {
                const severity = severityOf(row.event);
                return (
                  <li key={row.key}>
                    <button type="button" aria-expanded={open === row.key} onClick={() => setOpen(open === row.key ? null : row.key)} className="grid w-full gap-x-3 rounded px-1 py-px text-left hover:bg-raised" style={grid}>
                      <span className="min-w-0 truncate text-sm">
                        {severity !== null && LOUD[severity] !== undefined && <span className={`${LOUD[severity]} font-medium`}>▲ {severity} </span>}
                        {messageOf(row.event) ?? <code className="font-mono text-xs">{JSON.stringify(row.event)}</code>}
                        {row.stands_for > 1 && (
                          <span className="num text-xs text-soft" title="It stands for so many events">
                            {" "}
                            ×{count(row.stands_for)}
                          </span>
                        )}
                      </span>
                      {columns.map((c) => (
                        <span key={c.name} className="truncate font-mono text-xs leading-5" title={shown(valueOf(row.event, c.name))}>
                          {shown(valueOf(row.event, c.name))}
                        </span>
                      ))}
                    </button>
                    {open === row.key && <Unfolded row={row} columns={columns} onAdd={onAdd} onColumn={onColumn} />}
                  </li>
                );
              })}
            </ul>
          </li>
        ))}
      </ol>
      {rows.length > ROWS && <p className="pt-2 text-sm text-soft">{count(rows.length - ROWS)} older ones are not listed; narrow the sentence to see them.</p>}
    </div>
  );
}
