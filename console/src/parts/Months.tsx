/** What each destination gets in a month, now and by a plan that was tried, and what that costs. */
import type { TrialDestination } from "../api/plan";
import { age, bytes, count, money } from "../lib/format";

/** How much more or less something would be. */
export function Change({ now, then }: { now: number; then: number }) {
  if (now === 0 && then === 0) return null;
  if (now === 0) return <span className="text-removed">new</span>;
  const by = 100 * (then / now - 1);
  if (Math.abs(by) < 0.05) return <span className="text-soft">the same</span>;
  return <span className={by < 0 ? "font-medium text-goes-on" : "font-medium text-removed"}>{`${by < 0 ? "−" : "+"}${Math.abs(by).toFixed(1)} %`}</span>;
}

/** What it saves in a month, or costs more, a sum for each currency. */
export function saved(destinations: TrialDestination[]): { amount: number; currency: string }[] {
  const sums = new Map<string, number>();
  for (const { money: m } of destinations) if (m != null) sums.set(m.currency, (sums.get(m.currency) ?? 0) + m.now - m.then);
  return [...sums].map(([currency, amount]) => ({ amount, currency })).filter(({ amount }) => Math.abs(amount) >= 0.005);
}

export function Saved({ destinations }: { destinations: TrialDestination[] }) {
  return saved(destinations).map(({ amount, currency }) => (
    <span key={currency} className={`num font-semibold ${amount > 0 ? "text-goes-on" : "text-removed"}`}>
      {amount > 0 ? `saves ${money(amount, currency)}` : `costs ${money(-amount, currency)} more`} a month
    </span>
  ));
}

export function Months({ destinations, from }: { destinations: TrialDestination[]; from: number | null | undefined }) {
  if (from == null) return <p className="text-sm text-soft">Too little has flowed yet to estimate a month from it.</p>;
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-sm">
        <caption className="pb-1 text-left text-soft">A month, estimated from the last {age(from)}</caption>
        <thead>
          <tr className="text-left text-xs text-soft">
            <th className="font-normal">destination</th>
            <th className="text-right font-normal">events now</th>
            <th className="text-right font-normal">then</th>
            <th className="text-right font-normal">bytes now</th>
            <th className="text-right font-normal">then</th>
            <th className="text-right font-normal">change</th>
            <th className="text-right font-normal">cost now</th>
            <th className="text-right font-normal">then</th>
          </tr>
        </thead>
        <tbody className="num">
          {destinations.map((d) => (
            <tr key={d.name} className="border-t border-line">
              <th scope="row" className="py-1 pr-3 text-left font-medium">
                {d.name}
                {d.new_personal.length > 0 && <span className="ml-2 font-normal text-fails">▲ would get personal data in {d.new_personal.join(", ")}</span>}
              </th>
              <td className="text-right">{count(d.now.events)}</td>
              <td className="text-right">{count(d.then.events)}</td>
              <td className="text-right">{bytes(d.now.bytes)}</td>
              <td className="text-right">{bytes(d.then.bytes)}</td>
              <td className="text-right">
                <Change now={d.now.bytes} then={d.then.bytes} />
              </td>
              <td className="text-right">{d.money == null ? "–" : money(d.money.now, d.money.currency)}</td>
              <td className="text-right">{d.money == null ? "–" : money(d.money.then, d.money.currency)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
