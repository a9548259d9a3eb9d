/** What each step has saved: what it removed and took off, by the prices of the destinations where that would have gone. */
import { Link } from "@tanstack/react-router";

import type { LedgerAnswer } from "../../api/client";
import { bytes, count, money } from "../../lib/format";
import { Sentence } from "../../parts/Sentence";

/** So many steps are listed. */
const LISTED = 12;

interface Saving {
  key: string;
  place: string;
  name: string;
  sentence: string;
  events: number;
  bytes: number;
  amount: number;
  currency: string;
}

/** Those that saved most first. */
function savings(ledger: LedgerAnswer): Saving[] {
  const all = new Map<string, Saving>();
  for (const row of ledger.rows) {
    for (const { money: amount, currency } of row.saved ?? []) {
      const key = `${row.place} ${row.name} ${row.sentence} ${currency}`;
      const sum = all.get(key) ?? { key, place: row.place, name: row.name, sentence: row.sentence, events: 0, bytes: 0, amount: 0, currency };
      all.set(key, { ...sum, events: sum.events + (row.measure === "removed" ? row.events : 0), bytes: sum.bytes + row.bytes, amount: sum.amount + Number(amount) });
    }
  }
  return [...all.values()].sort((a, b) => b.amount - a.amount);
}

export function Saved({ ledger }: { ledger: LedgerAnswer }) {
  const all = savings(ledger);
  if (all.length === 0) return null;
  const totals = new Map<string, number>();
  for (const s of all) totals.set(s.currency, (totals.get(s.currency) ?? 0) + s.amount);
  return (
    <details className="card mb-5 p-4">
      <summary className="cursor-pointer">
        <span className="font-semibold">What steps have saved:</span> <span className="num text-goes-on">{[...totals].map(([currency, amount]) => money(amount, currency)).join(" + ")}</span>
      </summary>
      <div className="relative overflow-x-auto pt-2">
        <table className="w-full text-sm">
          <thead>
            <tr className="text-right text-xs text-soft">
              <th scope="col" className="text-left font-normal">step</th>
              <th scope="col" className="pl-4 text-left font-normal">at</th>
              <th scope="col" className="pl-4 font-normal">events removed</th>
              <th scope="col" className="pl-4 font-normal">bytes taken off</th>
              <th scope="col" className="pl-4 font-normal">saved</th>
            </tr>
          </thead>
          <tbody>
            {all.slice(0, LISTED).map((s) => (
              <tr key={s.key} className="border-t border-line text-right align-baseline">
                <th scope="row" className="py-1 text-left font-normal">
                  <Sentence text={s.sentence} />
                </th>
                <td className="py-1 pl-4 text-left whitespace-nowrap">
                  <Link to="/plan" search={{ part: `${s.place}:${s.name}` }} className="underline hover:text-petal">
                    {s.place} {s.name}
                  </Link>
                </td>
                <td className="num py-1 pl-4">{s.events === 0 ? "" : count(s.events)}</td>
                <td className="num py-1 pl-4" title={`${count(s.bytes)} bytes`}>
                  {bytes(s.bytes)}
                </td>
                <td className={`num py-1 pl-4 ${s.amount > 0 ? "text-goes-on" : ""}`}>{money(s.amount, s.currency)}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {all.length > LISTED && <p className="pt-1 text-xs text-soft">and {count(all.length - LISTED)} more steps, which saved less or added something; all of them with rockrose cost --saved</p>}
      </div>
    </details>
  );
}
