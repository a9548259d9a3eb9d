import type { FlowSource } from "../../api/client";
import { count, rate, share } from "../../lib/format";
import { Card, Choose } from "./Card";

/** What no route takes: never silently lost. */
export function RemainderCard({ sources, chosen, choose }: { sources: FlowSource[]; chosen: boolean; choose: (point: string | null) => void }) {
  const sum = (of: (s: FlowSource) => number) => sources.reduce((t, s) => t + of(s), 0);
  const events = sum((s) => s.remainder.events);
  const now = share(sum((s) => s.remainder.events_per_second), sum((s) => s.passed.events_per_second));
  return (
    <Card point="remainder" chosen={chosen} className="border-dashed">
      <div className="flex items-baseline justify-between gap-2">
        <Choose point="remainder" chosen={chosen} choose={choose}>
          Remainder
        </Choose>
        <span className="num text-soft" title={`${count(events)} since the start`}>
          {rate(sum((s) => s.remainder.events_per_second))}
        </span>
      </div>
      <p className="text-sm text-soft">
        {events === 0 ? "Every event is taken by a route." : `Events that no route takes: ${now === "" ? "" : `${now} of what arrives now, `}${count(events)} in total. They are counted but not delivered anywhere.`}
      </p>
    </Card>
  );
}
