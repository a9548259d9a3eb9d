/** The account by team, or by what routes tag events with: what each took, let go on, and costs. */
import type { FlowRoute, LedgerAnswer } from "../../api/client";
import { grouped } from "../../lib/groups";
import { count, money, share } from "../../lib/format";

interface Sums {
  taken: { events: number; bytes: number };
  out: number;
  queued: number;
  /** By currency. */
  costs: Map<string, number>;
}

/** The sums of each group, in one pass over the rows, of which there may be very many. */
function sums(ledger: LedgerAnswer, groups: { routes: string[] }[]): Sums[] {
  const all = groups.map((): Sums => ({ taken: { events: 0, bytes: 0 }, out: 0, queued: 0, costs: new Map() }));
  const of = new Map(groups.flatMap((group, n) => group.routes.map((route): [string, Sums | undefined] => [route, all[n]])));
  for (const r of ledger.rows) {
    const sum = of.get(r.place === "route" ? r.name : r.place === "destination" ? r.via : "");
    if (sum === undefined) continue;
    if (r.place === "route") {
      if (r.measure === "taken") {
        sum.taken.events += r.events;
        sum.taken.bytes += r.bytes;
      } else if (r.measure === "out") sum.out += r.bytes;
    } else if (r.measure === "enqueued") {
      sum.queued += r.bytes;
      if (r.money != null && r.currency != null) sum.costs.set(r.currency, (sum.costs.get(r.currency) ?? 0) + Number(r.money));
    }
  }
  return all;
}

export function By({ by, routes, ledger }: { by: string; routes: FlowRoute[]; ledger: LedgerAnswer }) {
  // Routes that left the plan have their rows still, and belong to no group that is known.
  const planned = new Set(routes.map((r) => r.name));
  const gone = [...new Set(ledger.rows.filter((r) => r.place === "route" && !planned.has(r.name)).map((r) => r.name))];
  const groups = [...grouped(routes, by).map((g) => ({ name: g.name, routes: g.routes.map((r) => r.name) })), ...(gone.length > 0 ? [{ name: "routes of earlier revisions", routes: gone }] : [])];
  return (
    <section aria-label={`By ${by}`} className="card mb-5 overflow-x-auto p-4">
      <table className="w-full text-sm">
        <thead>
          <tr className="text-right text-xs text-soft">
            <th scope="col" className="text-left font-normal">{by}</th>
            <th scope="col" className="pl-4 font-normal">events taken</th>
            <th scope="col" className="pl-4 font-normal">bytes taken</th>
            <th scope="col" className="pl-4 font-normal">bytes out</th>
            <th scope="col" className="pl-4 font-normal">taken away</th>
            <th scope="col" className="pl-4 font-normal">bytes queued</th>
            <th scope="col" className="pl-4 font-normal">costs</th>
          </tr>
        </thead>
        <tbody>
          {sums(ledger, groups).map(({ taken, out, queued, costs }, n) => {
            const group = groups[n] ?? { name: "", routes: [] };
            return (
              <tr key={group.name} className="border-t border-line text-right align-baseline">
                <th scope="row" className="py-1 text-left font-normal">
                  <span className="font-semibold">{group.name}</span> <span className="text-xs text-soft">{group.routes.join(", ")}</span>
                </th>
                <td className="num py-1 pl-4">{count(taken.events)}</td>
                <td className="num py-1 pl-4">{count(taken.bytes)}</td>
                <td className="num py-1 pl-4">{count(out)}</td>
                <td className="num py-1 pl-4 text-removed">{taken.bytes > out ? `−${share(taken.bytes - out, taken.bytes)}` : ""}</td>
                <td className="num py-1 pl-4">{count(queued)}</td>
                <td className="num py-1 pl-4 font-medium">{[...costs].map(([currency, amount]) => money(amount, currency)).join(" + ") || "nothing"}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </section>
  );
}
