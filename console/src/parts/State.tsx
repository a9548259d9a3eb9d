/** A destination's state: a mark of its own shape, a word, and a colour. */
import type { FlowDestination } from "../api/client";
import { age, utc } from "../lib/format";

const LOOK = {
  healthy: { mark: "●", word: "healthy", colour: "text-goes-on" },
  idle: { mark: "○", word: "idle", colour: "text-soft" },
  failing: { mark: "▲", word: "failing", colour: "text-fails" },
  stopped: { mark: "■", word: "stopped", colour: "text-soft" },
} as const;

export function State({ destination, now }: { destination: FlowDestination; now: number }) {
  const { health } = destination;
  const look = LOOK[health.state];
  const since = health.state === "failing" ? ` for ${age(now - health.since_ms)}` : "";
  return (
    <span className={`${look.colour} text-sm font-medium whitespace-nowrap`} title={`since ${utc(health.since_ms)}`}>
      <span aria-hidden="true">{look.mark}</span> {look.word}
      {since}
    </span>
  );
}
