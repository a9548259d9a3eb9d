/** Events that are pasted or uploaded, to try the draft on instead of the samples. */
import { useState } from "react";

import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { Sheet } from "../../parts/Sheet";
import { partOf, useDraft } from "./draft";

export interface Given {
  source: string;
  events: string;
}

/** Most that is sent, in characters. */
const MOST = 7_000_000;

export function GivenEvents({ given, onGiven }: { given: Given | null; onGiven: (given: Given | null) => void }) {
  const { outline } = useDraft();
  const [open, setOpen] = useState(false);
  const [events, setEvents] = useState(given?.events ?? "");
  const sources = (outline?.parts ?? []).map((p) => partOf(p.part)).filter((p) => p.kind === "source");
  const [source, setSource] = useState(given?.source ?? sources[0]?.name ?? "");
  if (given !== null) {
    return (
      <button type="button" className={SMALL_BUTTON} onClick={() => onGiven(null)}>
        Try on the samples again
      </button>
    );
  }
  return (
    <Sheet button="Try on other events" title="Try on other events" says="As a sender would send them: a line for each, or whatever the source reads. They are tried, and not kept, sent or counted." open={open} onOpenChange={setOpen}>
      <form
        className="flex min-h-0 flex-col items-start gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          onGiven({ source: source === "" ? (sources[0]?.name ?? "") : source, events });
          setOpen(false);
        }}
      >
        <label className="flex items-center gap-2 text-sm text-soft">
          They come by the source
          <select value={source} onChange={(e) => setSource(e.target.value)} className={FIELD}>
            {sources.map((s) => (
              <option key={s.name}>{s.name}</option>
            ))}
          </select>
        </label>
        <label className="flex w-full flex-col gap-1 text-sm text-soft">
          The events
          <textarea required rows={8} value={events} onChange={(e) => setEvents(e.target.value)} spellCheck={false} className={`${FIELD} font-mono text-xs`} />
        </label>
        <label className="flex items-center gap-2 text-sm text-soft">
          or a file of them
          <input
            type="file"
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file !== undefined) void file.slice(0, MOST).text().then(setEvents);
            }}
          />
        </label>
        <button type="submit" className={`${BUTTON} border-petal text-petal`} disabled={events.length > MOST}>
          Try on these
        </button>
      </form>
    </Sheet>
  );
}
