/** Where did every event go? An account that adds up. */
import { useNavigate, useSearch } from "@tanstack/react-router";
import { ToggleGroup } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";

import { type LedgerAnswer, type LedgerEntry, ledgerAge, useFlow, useLedger } from "../../api/client";
import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { csvLine } from "../../lib/csv";
import { download } from "../../lib/download";
import { count, utc } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { groupings } from "../../lib/groups";
import { useStored } from "../../lib/stored";
import { GroupBy } from "../../parts/GroupBy";
import { Message } from "../../parts/Message";
import { Account, type Part, idOf } from "./Account";
import { Budgets } from "./Budgets";
import { By } from "./By";
import { ByTag } from "./ByTag";
import { type LedgerSearch, SPANS, asked, readSearch } from "./looked";
import { Saved } from "./Saved";

/** Minutes are kept for 35 days. */
const KEPT_MS = 35 * 86_400_000;

/** A moment as fields for times write it: local, to the minute. */
function written(ms: number): string {
  const at = new Date(ms);
  return new Date(ms - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** From when to when, in the person's zone. */
function Between({ from, to, now, choose }: { from: number; to: number; now: number; choose: (from: number, to: number) => void }) {
  const moment = (label: string, at: number, set: (ms: number) => void) => (
    <label className="flex items-center gap-1.5">
      {label}
      <input
        type="datetime-local"
        value={written(at)}
        title={utc(at)}
        onChange={(e) => {
          const ms = new Date(e.target.value).getTime();
          if (!Number.isNaN(ms)) set(ms);
        }}
        className={FIELD}
      />
    </label>
  );
  return (
    <fieldset className="flex flex-wrap items-center gap-3 text-sm">
      <legend className="sr-only">From when to when</legend>
      {moment("from", from, (ms) => choose(ms, to))}
      {moment("to", to, (ms) => choose(from, ms))}
      {from >= to && <span role="alert" className="text-fails">▲ It ends before it begins.</span>}
      {from < now - KEPT_MS && <span className="text-waits">Minutes are kept for 35 days; before that, hours count whole, and after 400 days, days.</span>}
    </fieldset>
  );
}

/** Goes to an account, and lets it be seen and heard that one is there; false, if it is not drawn. */
function goTo(id: string): boolean {
  const account = document.getElementById(id);
  account?.scrollIntoView({ block: "center" });
  account?.focus();
  return account !== null;
}

/** So many accounts of a column are drawn at once. */
const DRAWN = 40;

/** The rows of each account, and those of the accounts behind it that came through it; there may be very many. */
function indexed(rows: LedgerEntry[]) {
  const [names, own, through] = [new Map<string, Set<string>>(), new Map<string, LedgerEntry[]>(), new Map<string, LedgerEntry[]>()];
  const add = (to: Map<string, LedgerEntry[]>, key: string, row: LedgerEntry) => {
    const list = to.get(key);
    if (list === undefined) to.set(key, [row]);
    else list.push(row);
  };
  for (const row of rows) {
    const of = names.get(row.place) ?? new Set();
    names.set(row.place, of.add(row.name));
    add(own, `${row.place} ${row.name}`, row);
    if (row.place === "route") add(through, `source ${row.via}`, row);
    if (row.place === "destination") add(through, `route ${row.via}`, row);
  }
  return { names, own, through };
}

function Verdict({ ledger }: { ledger: LedgerAnswer }) {
  const off = ledger.equations.filter((e) => !e.holds);
  if (off.length === 0) {
    return (
      <p role="status" className="text-goes-on">
        <span className="font-semibold">✓ Balanced.</span> All {ledger.equations.length} equations hold since the beginning, to the event and to the byte.
      </p>
    );
  }
  return (
    <div role="alert" className="text-fails">
      <p className="font-semibold">✗ Not balanced.</p>
      <ul className="text-sm">
        {off.map((e) => (
          <li key={`${e.place} ${e.name} ${e.says}`}>
            {e.place} {e.name}: {e.says}: off by {count(e.left_events - e.right_events)} events and {count(e.left_bytes - e.right_bytes)} bytes
          </li>
        ))}
      </ul>
    </div>
  );
}

/** The rows as a CSV file; of what is queued for a destination with a price, what it costs. */
function csv(ledger: LedgerAnswer): string {
  const head = csvLine(["place", "name", "via", "position", "sentence", "measure", "events", "bytes", "money", "currency"]);
  const line = (r: LedgerAnswer["rows"][number]) => csvLine([r.place, r.name, r.via, String(r.position), r.sentence, r.measure, String(r.events), String(r.bytes), r.money ?? "", r.money == null ? "" : (r.currency ?? "")]);
  return head + ledger.rows.map(line).join("");
}

export function LedgerPage() {
  const { frozen } = useFrozen();
  const search = useSearch({ from: "/ledger" });
  const navigate = useNavigate({ from: "/ledger" });
  const look = (change: (before: LedgerSearch) => LedgerSearch) => void navigate({ search: change, replace: true, resetScroll: false });
  const [by, setBy] = useStored("ledger-group");
  const { data: flow } = useFlow(true);
  const { from = 0, to = 0 } = search;
  // The address follows what is typed, and may do so late.
  const [find, setFind] = useState(search.find ?? "");
  const seek = (text: string) => {
    setFind(text);
    look((before) => readSearch({ ...before, find: text }));
  };
  const span = search.from === undefined ? (search.span ?? "all") : "between";
  const { data: ledger, error } = useLedger(asked(search), frozen);
  const accounts = useMemo(() => indexed(ledger?.rows ?? []), [ledger]);
  // The account to which a sum is being followed: it may have to be drawn first.
  const followed = useRef<string | null>(null);
  useEffect(() => {
    if (followed.current !== null && goTo(followed.current)) followed.current = null;
  });
  if (ledger === undefined) {
    return error === null ? <Message title="Loading…" /> : <Message tone="fails" title={`The ledger cannot be shown: ${error.message}.`} />;
  }
  const routes = flow?.routes ?? [];
  const tags = ledger.tags ?? [];
  // What events are told apart by comes before what routes are.
  const ways = [...tags, ...groupings(routes).filter((way) => !tags.includes(way))];
  const chooseSpan = (chosen: string) => {
    if (chosen === "") return;
    const end = Math.floor(ledger.now_ms / 60_000) * 60_000;
    const kept = find === "" ? {} : { find };
    look(() => ({ ...kept, ...(chosen === "between" ? { from: end - 3_600_000, to: end } : chosen !== "all" && { span: chosen }) }));
  };
  const names = (place: string) => [...(accounts.names.get(place) ?? [])].filter((name) => name.includes(find.trim())).sort();
  const follow = (part: Part) => {
    const id = idOf(part.place, part.name);
    if (goTo(id)) return;
    followed.current = id;
    seek(part.name);
  };
  const isLong = [...accounts.names.values()].some((of) => of.size > DRAWN);
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-2 pb-4">
        <h1 className="text-xl font-semibold">Ledger</h1>
        <Verdict ledger={ledger} />
        {(ledger.caveats ?? []).map((caveat) => (
          <p key={caveat} className="text-sm text-waits">
            ▲ {caveat.replaceAll("`", "").replace(/^./, (c) => c.toUpperCase())}.
          </p>
        ))}
        <button type="button" className={`${BUTTON} ml-auto`} disabled={ledger.rows.length === 0} onClick={() => download("ledger.csv", "text/csv", csv(ledger))}>
          Take along as CSV
        </button>
        <ToggleGroup.Root type="single" value={span} onValueChange={chooseSpan} aria-label="Span of time" className="flex overflow-hidden rounded border border-line text-sm">
          {[...SPANS, { value: "between", label: "Any span", asked: "" }].map((s) => (
            <ToggleGroup.Item key={s.value} value={s.value} className="px-2.5 py-1 text-soft data-[state=on]:bg-petal-wash data-[state=on]:font-medium data-[state=on]:text-petal">
              {s.label}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
      </div>
      {(span === "between" || ways.length > 0) && (
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2 pb-4">
          {span === "between" && <Between from={from} to={to} now={ledger.now_ms} choose={(from, to) => look((before) => ({ ...before, from, to }))} />}
          <GroupBy label="added up by" ways={ways} by={by} choose={setBy} />
        </div>
      )}
      {ledger.rows.length > 0 && tags.includes(by ?? "") && <ByTag tag={by ?? ""} span={asked(search)} />}
      {ledger.rows.length > 0 && !tags.includes(by ?? "") && ways.includes(by ?? "") && <By by={by ?? ""} routes={routes} ledger={ledger} />}
      <Budgets />
      <Saved ledger={ledger} />
      {(isLong || find !== "") && (
        <div className="flex flex-wrap items-baseline gap-x-4 pb-4">
          <input
            value={find}
            onChange={(e) => seek(e.target.value)}
            placeholder="find accounts by their names"
            aria-label="Find accounts"
            className={`${FIELD} w-80`}
          />
          {ledgerAge(ledger) > 2_000 && <span className="text-sm text-soft">A long account is asked for every {ledgerAge(ledger) / 1_000} seconds.</span>}
        </div>
      )}
      {ledger.rows.length === 0 ? (
        <Message title="Nothing was counted in this period.">{span === "all" ? "The ledger begins with the first event." : "Choose a longer span."}</Message>
      ) : (
        <div className="grid grid-cols-3 items-start gap-5 max-lg:grid-cols-1">
          {(["source", "route", "destination"] as const).map((place) => (
            <section key={place} aria-label={`${place}s`} className="flex flex-col gap-4">
              {names(place).length > DRAWN && <p className="text-sm text-soft">{count(names(place).length)}, of which {DRAWN} are drawn; find the others by name.</p>}
              {names(place).slice(0, DRAWN).map((name) => (
                <Account key={name} place={place} name={name} rows={accounts.own.get(`${place} ${name}`) ?? []} through={accounts.through.get(`${place} ${name}`) ?? []} ledger={ledger} whole={span === "all"} follow={follow} cost={place === "destination" ? ledger.costs?.find((c) => c.destination === name) : undefined} />
              ))}
            </section>
          ))}
        </div>
      )}
    </>
  );
}
