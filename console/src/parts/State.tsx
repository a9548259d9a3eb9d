/** A destination's state: a mark of its own shape, a word, and a colour. */
import type { FlowDestination } from "../api/client";
import { age, utc } from "../lib/format";

const LOOK = {
  healthy: { mark: "●", word: "healthy", colour: "text-goes-on" },
  idle: { mark: "○", word: "idle", colour: "text-soft" },
  slow: { mark: "◐", word: "slow", colour: "text-waits" },
  full: { mark: "▲", word: "full", colour: "text-fails" },
  paused: { mark: "‖", word: "paused", colour: "text-waits" },
  failing: { mark: "▲", word: "failing", colour: "text-fails" },
  stopped: { mark: "■", word: "stopped", colour: "text-soft" },
} as const;

export function State({ destination, now }: { destination: FlowDestination; now: number }) {
  const { health } = destination;
  const look = LOOK[health.state];
  const since = health.state === "failing" || health.state === "paused" || health.state === "slow" ? ` for ${age(now - health.since_ms)}` : "";
  const title = [`since ${utc(health.since_ms)}`];
  if (health.paused_by !== null && health.paused_by !== undefined) title.push(`paused by ${health.paused_by}`);
  return (
    <span className={`${look.colour} text-sm font-medium whitespace-nowrap`} title={title.join(", ")}>
      <span aria-hidden="true">{look.mark}</span> {look.word}
      {since}
    </span>
  );
}
