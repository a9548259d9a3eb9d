/** Events passing a point, live: what went is struck through, what came is underlined. */
import { ToggleGroup } from "radix-ui";
import { useId, useState } from "react";

import { type Refused, type TailEvent, useTail } from "../api/tail";
import { clock, count, utc } from "../lib/format";
import { useFrozen } from "../lib/frozen";
import { Difference } from "./Difference";
import { Marked, wrong } from "./Mistake";
import { Sentence } from "./Sentence";
import { WhyButton } from "./Why";

type Side = "both" | "before" | "after";

const SIDES: { value: Side; label: string }[] = [
  { value: "both", label: "What changed" },
  { value: "before", label: "As it came" },
  { value: "after", label: "As it went on" },
];

function Line({ event, side, source }: { event: TailEvent; side: Side; source: string | null }) {
  if (side === "after" && event.after === null) return null;
  return (
    <li className="grid grid-cols-[5.5rem_1fr_auto] gap-3 border-t border-line py-1.5 first:border-t-0">
      <time className="num text-xs leading-relaxed text-soft" title={utc(event.at_ms)}>
        {clock(event.at_ms)}
      </time>
      <div className="min-w-0 font-mono text-xs leading-relaxed break-words">
        {side === "both" ? <Difference before={event.before} after={event.after} /> : JSON.stringify(side === "before" ? event.before : event.after)}
        {side === "both" && event.after === null && event.removed_by !== null && (
          <p className="font-sans text-removed">
            removed by <Sentence text={event.removed_by} />
          </p>
        )}
        {side === "both" && event.after === null && event.held_by !== null && (
          <p className="font-sans text-soft">
            held back by <Sentence text={event.held_by} />
          </p>
        )}
      </div>
      {source !== null && <WhyButton source={source} event={JSON.stringify(event.before)} className="self-start rounded border border-line px-2 text-xs hover:border-line-strong" />}
    </li>
  );
}

/** Why nothing is shown; a mistake in the condition, at its place. */
function Broken({ when, refused }: { when: string; refused: Refused | null }) {
  if (refused?.mistake == null) {
    return (
      <p role="alert" className="text-sm text-fails">
        The stream cannot be opened{refused === null || refused.says === "" ? "." : `: ${refused.says}.`}
      </p>
    );
  }
  return (
    <div role="alert" className="text-sm">
      <p>
        <Marked text={when.trim()} mistake={refused.mistake} />
      </p>
      <p className="mt-1 text-fails">
        Column {refused.mistake.column}: {wrong(refused.mistake)}
      </p>
    </div>
  );
}

export function Tail({ point, what }: { point: string; what: string }) {
  const { frozen } = useFrozen();
  const [side, setSide] = useState<Side>("both");
  const [written, setWritten] = useState("");
  const [when, setWhen] = useState("");
  const tail = useTail(point, when, frozen);
  const field = useId();
  return (
    <section aria-label={`Events at ${what}`} className="flex min-h-0 flex-1 flex-col">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <ToggleGroup.Root type="single" value={side} onValueChange={(v) => v !== "" && setSide(v as Side)} aria-label="Which side" className="flex overflow-hidden rounded border border-line text-sm">
          {SIDES.map((s) => (
            <ToggleGroup.Item key={s.value} value={s.value} className="px-2.5 py-1 text-soft data-[state=on]:bg-petal-wash data-[state=on]:font-medium data-[state=on]:text-petal">
              {s.label}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
        <form
          className="flex min-w-56 flex-1 items-center gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            setWhen(written);
          }}
        >
          <label htmlFor={field} className="text-sm text-soft">
            when
          </label>
          <input
            id={field}
            value={written}
            onChange={(e) => setWritten(e.target.value)}
            placeholder="severity >= warn"
            spellCheck={false}
            className="min-w-0 flex-1 rounded border border-line bg-surface px-2 py-1 font-mono text-xs placeholder:text-soft"
          />
          <button type="submit" className="rounded border border-line px-2.5 py-1 text-sm hover:border-line-strong">
            Filter
          </button>
        </form>
        {tail.skipped > 0 && <span className="text-sm text-waits">{count(tail.skipped)} came too fast to show</span>}
      </div>
      {tail.grants !== null && (
        <p className="pb-2 text-sm text-soft">
          Your grants show you some of the events here:{" "}
          <code className="font-mono text-xs text-ink">{tail.grants.join("; ")}</code>
        </p>
      )}
      {tail.state === "broken" ? (
        <Broken when={when} refused={tail.refused} />
      ) : tail.events.length === 0 ? (
        <p role="status" className="py-3 text-sm text-soft">
          Waiting for the next event here.
        </p>
      ) : (
        <ol className="min-h-0 flex-1 overflow-y-auto" tabIndex={0} aria-label="Events, newest first">
          {tail.events.map((e) => (
            <Line key={e.id} event={e} side={side} source={point.startsWith("source:") ? point.slice("source:".length) : null} />
          ))}
        </ol>
      )}
    </section>
  );
}
