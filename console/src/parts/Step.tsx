/** A step, the share that it removes or changes now, and how much it was in all. */
import type { FlowStep, Gauge } from "../api/client";
import { bytes, count, share, shareNow } from "../lib/format";
import { Sentence } from "./Sentence";

export function Step({ step, taken }: { step: FlowStep; taken: Gauge }) {
  const removed = step.removed.events;
  const says = [
    removed > 0 ? `removed ${count(removed)}` : "",
    step.changed.events > 0 ? `changed ${count(step.changed.events)}, ${step.changed.bytes >= 0 ? "saved" : "added"} ${bytes(Math.abs(step.changed.bytes))}` : "",
    step.held.events > 0 ? `holding ${count(step.held.events)}` : "",
    step.failed.events > 0 ? `failed on ${count(step.failed.events)}` : "",
  ];
  // While nothing passes there is no share to tell.
  const flows = taken.events_per_second > 0;
  const words = says.filter((s) => s !== "").join("; ");
  return (
    <li className="grid grid-cols-[1fr_auto] items-baseline gap-x-3 border-t border-line py-1.5" title={words === "" ? "no events affected yet" : words}>
      <Sentence text={step.sentence} />
      <span className="num text-right text-xs">
        {removed > 0 ? (
          <span className="font-medium text-removed">
            <span aria-hidden="true" className="mr-1.5 inline-block h-2.5 hatch align-[-1px]" style={{ width: `${Math.max(2, 48 * (flows ? step.removed.events_per_second / taken.events_per_second : removed / Math.max(1, taken.events)))}px` }} />
            {flows ? `−${shareNow(step.removed, taken)}` : ""}
            <span className="ml-1.5 font-normal text-soft">{count(removed)} in total</span>
          </span>
        ) : step.changed.events > 0 ? (
          <span className="text-soft">
            {flows ? `changes ${shareNow(step.changed, taken)}, ` : "changed "}
            {count(step.changed.events)} in total
          </span>
        ) : (
          <span className="text-soft">–</span>
        )}
        {step.held.events > 0 && <span className="ml-2 text-soft">holds {count(step.held.events)}</span>}
        {step.caveat && <span className="ml-2 text-waits">{step.caveat.replaceAll("`", "")}</span>}
        {step.failed.events > 0 && <span className="ml-2 text-waits">fails on {flows ? shareNow(step.failed, taken) : share(step.failed.events, taken.events)}</span>}
      </span>
    </li>
  );
}
