/** A step and the share it removed or changed since the beginning. */
import type { FlowStep } from "../api/client";
import { bytes, count, share } from "../lib/format";
import { Sentence } from "./Sentence";

export function Step({ step, taken }: { step: FlowStep; taken: number }) {
  const removed = step.removed.events;
  const says = [
    removed > 0 ? `removed ${count(removed)}` : "",
    step.changed.events > 0 ? `changed ${count(step.changed.events)}, ${step.changed.bytes >= 0 ? "saved" : "added"} ${bytes(Math.abs(step.changed.bytes))}` : "",
    step.held.events > 0 ? `holds back ${count(step.held.events)} now` : "",
    step.failed.events > 0 ? `could not read ${count(step.failed.events)}` : "",
  ];
  const words = says.filter((s) => s !== "").join("; ");
  return (
    <li className="grid grid-cols-[1fr_auto] items-baseline gap-x-3 border-t border-line py-1.5" title={words === "" ? "touched no event yet" : words}>
      <Sentence text={step.sentence} />
      <span className="num text-right text-xs">
        {removed > 0 ? (
          <span className="font-medium text-removed">
            <span aria-hidden="true" className="mr-1.5 inline-block h-2.5 hatch align-[-1px]" style={{ width: `${Math.max(2, (48 * removed) / Math.max(1, taken))}px` }} />
            −{share(removed, taken)}
          </span>
        ) : step.changed.events > 0 ? (
          <span className="text-soft">changes {share(step.changed.events, taken)}</span>
        ) : (
          <span className="text-soft">–</span>
        )}
        {step.held.events > 0 && <span className="ml-2 text-soft">holds {count(step.held.events)}</span>}
        {step.failed.events > 0 && <span className="ml-2 text-waits">fails on {share(step.failed.events, taken)}</span>}
      </span>
    </li>
  );
}
