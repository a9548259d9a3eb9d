/** The account by the values of a tag: what arrived with each, what steps took away of it, where it was sent and what that costs. */
import { type LedgerByTag, type TagShare, useByTag } from "../../api/client";
import { BUTTON } from "../../design/buttons";
import { csvLine } from "../../lib/csv";
import { download } from "../../lib/download";
import { bytes, count, money, share } from "../../lib/format";

/** So many values are listed. */
const LISTED = 25;

/** What a share is of, in words. */
function called(of: TagShare, tag: string): string {
  if (of.of === "value") return of.value;
  return { without: `without ${tag}`, others: "all other values", before: "while it was not told apart" }[of.of];
}

/** Sums by currency. */
function amounts(of: { money?: string | null; currency?: string | null }[]): Map<string, number> {
  const sums = new Map<string, number>();
  for (const { money, currency } of of) if (money != null && currency != null) sums.set(currency, (sums.get(currency) ?? 0) + Number(money));
  return sums;
}

const inWords = (sums: Map<string, number>) => [...sums].map(([currency, amount]) => money(amount, currency)).join(" + ");

interface Line {
  name: string;
  isValue: boolean;
  of: TagShare;
  sent: { events: number; bytes: number };
  costs: Map<string, number>;
  saved: Map<string, number>;
}

function lines(account: LedgerByTag): Line[] {
  const line = (of: TagShare): Line => ({
    name: called(of, account.tag),
    isValue: of.of === "value",
    of,
    sent: of.sent.reduce((sum, s) => ({ events: sum.events + s.events, bytes: sum.bytes + s.bytes }), { events: 0, bytes: 0 }),
    costs: amounts(of.sent),
    saved: amounts(of.saved),
  });
  const total = (l: Line) => [...l.costs.values()].reduce((a, b) => a + b, 0);
  return account.values.map(line).sort((a, b) => total(b) - total(a) || b.sent.bytes - a.sent.bytes || b.of.arrived_bytes - a.of.arrived_bytes);
}

/** A row for each value and destination, exact. */
function csv(account: LedgerByTag): string {
  const head = csvLine([account.tag, "arrived events", "arrived bytes", "removed events", "removed bytes", "destination", "events", "bytes", "money", "currency"]);
  const rows = account.values.flatMap((of) => {
    const own = [called(of, account.tag), ...[of.arrived_events, of.arrived_bytes, of.removed_events, of.removed_bytes].map(String)];
    const sent = of.sent.map((s) => csvLine([...own, s.destination, String(s.events), String(s.bytes), s.money ?? "", s.currency ?? ""]));
    return sent.length > 0 ? sent : [csvLine([...own, "", "", "", "", ""])];
  });
  return head + rows.join("");
}

export function ByTag({ tag, span }: { tag: string; /** As the ledger is asked for it. */ span: string }) {
  const { data: account, error } = useByTag(tag, span);
  if (account === undefined) {
    return <p className="card mb-5 p-4 text-sm text-soft">{error === null ? "Loading…" : `▲ The account by ${tag} cannot be shown: ${error.message}.`}</p>;
  }
  const all = lines(account);
  const sent = all.reduce((sum, l) => sum + l.sent.bytes, 0);
  return (
    <section aria-label={`By ${tag}`} className="card relative mb-5 overflow-x-auto p-4">
      <table className="w-full text-sm">
        <thead>
          <tr className="text-right text-xs text-soft">
            <th scope="col" className="text-left font-normal">{tag}</th>
            <th scope="col" className="pl-4 font-normal">events arrived</th>
            <th scope="col" className="pl-4 font-normal">bytes arrived</th>
            <th scope="col" className="pl-4 font-normal">removed by steps</th>
            <th scope="col" className="pl-4 font-normal">events sent</th>
            <th scope="col" className="pl-4 font-normal">bytes sent</th>
            <th scope="col" className="pl-4 font-normal">of all</th>
            <th scope="col" className="pl-4 font-normal">costs</th>
            <th scope="col" className="pl-4 font-normal">saved by steps</th>
          </tr>
        </thead>
        <tbody>
          {all.slice(0, LISTED).map((l) => (
            <tr key={`${l.of.of} ${l.name}`} className="border-t border-line text-right align-baseline" title={l.of.sent.map((s) => `${s.destination}: ${bytes(s.bytes)}`).join("\n")}>
              <th scope="row" className={`py-1 text-left ${l.isValue ? "font-semibold" : "font-normal text-soft italic"}`}>
                {l.name}
              </th>
              <td className="num py-1 pl-4">{count(l.of.arrived_events)}</td>
              <td className="num py-1 pl-4">{bytes(l.of.arrived_bytes)}</td>
              <td className="num py-1 pl-4 text-removed">{l.of.removed_events === 0 ? "" : `−${count(l.of.removed_events)}`}</td>
              <td className="num py-1 pl-4">{count(l.sent.events)}</td>
              <td className="num py-1 pl-4">{bytes(l.sent.bytes)}</td>
              <td className="num py-1 pl-4 text-soft">{share(l.sent.bytes, sent)}</td>
              <td className="num py-1 pl-4 font-medium">{inWords(l.costs) || "nothing"}</td>
              <td className="num py-1 pl-4 text-goes-on">{inWords(l.saved)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="flex flex-wrap items-baseline gap-x-4 pt-2">
        {all.length > LISTED && <p className="text-xs text-soft">and {count(all.length - LISTED)} more values, which cost less</p>}
        <button type="button" className={`${BUTTON} ml-auto`} onClick={() => download(`ledger-by-${tag}.csv`, "text/csv", csv(account))}>
          Take {tag} along as CSV
        </button>
      </div>
    </section>
  );
}
