/** The messages, condensed to patterns: how many, what they weigh, how they come; and the sentences that cut them. */
import { useNavigate } from "@tanstack/react-router";
import { useId, useState } from "react";

import { useChangeDraft, useOutline, usePlanDraft } from "../../api/plan";
import type { PatternSummary, PatternsAnswer } from "../../api/survey";
import { SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { bytes, clock, count, share, utc } from "../../lib/format";
import { Sentence } from "../../parts/Sentence";

const GRID = "grid grid-cols-[5rem_4rem_4rem_7.5rem_minmax(0,1fr)_auto] gap-x-3 max-md:grid-cols-[4rem_minmax(0,1fr)]";

/** A pattern's text, what varies in it set apart. */
function Text({ of }: { of: PatternSummary }) {
  return (
    <code className="font-mono text-xs break-words">
      {of.text.split(/(\{[^}]*\})/).map((piece, i) =>
        piece.startsWith("{") ? (
          <span key={i} className="rounded bg-petal-wash px-0.5 text-petal">
            {piece.slice(1, -1)}
          </span>
        ) : (
          <span key={i}>{piece}</span>
        ),
      )}
    </code>
  );
}

function Trend({ of, from, until }: { of: PatternSummary; from: number; until: number }) {
  const [width, height] = [120, 20];
  const most = Math.max(1, ...of.trend.map((s) => s.events));
  const span = Math.max(1, until - from);
  const says = `from ${clock(of.first_ms)} to ${clock(of.last_ms)}; at most ${count(most)} in ${Math.round(of.trend_width_ms / 1000)} s`;
  return (
    <svg role="img" aria-label={says} width={width} height={height} className="bg-raised">
      <title>{says}</title>
      {of.trend.map((s) => (
        <rect key={s.at_ms} x={((s.at_ms - from) / span) * width} width={Math.max(1, (of.trend_width_ms / span) * width - 0.5)} y={height - (s.events / most) * height} height={(s.events / most) * height} className="fill-arrive" />
      ))}
    </svg>
  );
}

/** The sentences about a pattern, each to be put at the end of a list in the draft. */
function Sentences({ of, at }: { of: PatternSummary; at: string }) {
  const draft = usePlanDraft();
  const outline = useOutline(draft.data?.text);
  const change = useChangeDraft();
  const navigate = useNavigate();
  const id = useId();
  const source = at.startsWith("source:") ? at.slice(7) : null;
  const parts = (outline.data?.parts ?? []).filter((p) => p.part === at || (p.part.startsWith("route:") && (source === null || p.from.length === 0 || p.from.includes(source))));
  const [chosen, setChosen] = useState("");
  const part = chosen === "" ? (parts.find((p) => p.part === at && at.startsWith("route:")) ?? parts.find((p) => p.part.startsWith("route:")))?.part ?? at : chosen;
  const added = outline.data?.parts.find((p) => p.part === part)?.steps.map((s) => s.sentence) ?? [];
  const { parse, count: counts, measure, drop, sample, limit, merge } = of.sentences;
  const sentences = [
    { says: "Keep its trend as a metric", sentence: counts },
    { says: "Keep its first number as a metric", sentence: measure },
    { says: "Read what varies into fields", sentence: parse },
    { says: "Remove it", sentence: drop },
    { says: "Keep one in ten", sentence: sample },
    { says: "Keep ten a second", sentence: limit },
    { says: "Make repeats one event", sentence: merge },
  ];
  return (
    <div className="mt-1 flex flex-col gap-2 rounded bg-raised p-3 text-sm">
      <ul aria-label="Examples" className="font-mono text-xs">
        {of.examples.slice(0, 3).map((e) => (
          <li key={e} className="break-words">
            {e}
          </li>
        ))}
      </ul>
      <label htmlFor={id} className="flex flex-wrap items-center gap-2">
        <span className="text-soft">Put into the draft, at the end of</span>
        <select id={id} value={part} onChange={(e) => setChosen(e.target.value)} className={FIELD}>
          {parts.map((p) => (
            <option key={p.part} value={p.part}>
              {p.part.replace(":", " ")}
            </option>
          ))}
        </select>
      </label>
      <ul aria-label="Sentences" className="flex flex-col gap-1">
        {sentences.map(({ says, sentence }) =>
          sentence == null ? null : (
            <li key={says} className="grid grid-cols-[14rem_minmax(0,1fr)_auto] items-baseline gap-3 max-md:grid-cols-1">
              <span className="text-soft">{says}</span>
              <Sentence text={sentence} />
              {added.includes(sentence) ? (
                <span className="text-goes-on">✓ in the draft</span>
              ) : (
                <button type="button" className={SMALL_BUTTON} aria-label={`Add to the draft: ${says}`} disabled={change.isPending} onClick={() => change.mutate({ edits: [{ edit: "add_step", part, step: sentence }] })}>
                  Add
                </button>
              )}
            </li>
          ),
        )}
      </ul>
      {change.error !== null && (
        <p role="alert" className="text-fails">
          ▲ {change.error.message}
        </p>
      )}
      <button type="button" className={`${SMALL_BUTTON} self-start`} onClick={() => void navigate({ to: "/plan", search: { part } })}>
        Open the draft
      </button>
    </div>
  );
}

export function Patterns({ patterns, at, onAdd }: { patterns: PatternsAnswer; at: string; onAdd: (condition: string) => void }) {
  const [open, setOpen] = useState<string | null>(null);
  const list = [...patterns.patterns].sort((a, b) => b.bytes - a.bytes);
  const from = Math.min(...list.map((p) => p.trend[0]?.at_ms ?? p.first_ms));
  const until = Math.max(...list.map((p) => (p.trend.at(-1)?.at_ms ?? p.last_ms) + p.trend_width_ms));
  if (list.length === 0) return <p className="text-sm text-soft">None of these events has a message.</p>;
  return (
    <>
      <p className="pb-2 text-sm text-soft">
        {count(patterns.events)} messages are {list.length === 1 ? "1 pattern" : `${count(list.length)} patterns`}; those that carry most bytes stand first.
        {patterns.others > 0 && ` ${count(patterns.others)} events are of patterns that there was no room for.`}
      </p>
      <div aria-hidden="true" className={`${GRID} pb-1 text-right text-xs text-soft max-md:hidden`}>
        <span>events</span>
        <span>of all</span>
        <span>of bytes</span>
        <span className="text-left">when they came</span>
      </div>
      <ol aria-label="Patterns">
        {list.map((p) => (
          <li key={p.id} className="border-t border-line py-1.5">
            <div className={`${GRID} items-center`}>
              <span className="num text-right text-sm" title="So many events">
                {count(p.events)}
              </span>
              <span className="num text-right text-sm text-soft max-md:hidden" title="Of all messages">
                {share(p.share, 1)}
              </span>
              <span className="num text-right text-sm font-medium max-md:hidden" title={`Of the bytes of all messages: ${bytes(p.bytes)}`}>
                {share(p.bytes_share, 1)}
              </span>
              <span className="max-md:hidden">
                <Trend of={p} from={from} until={until} />
              </span>
              <button type="button" aria-expanded={open === p.id} onClick={() => setOpen(open === p.id ? null : p.id)} className="min-w-0 rounded px-1 text-left hover:bg-raised">
                <Text of={p} />
                <span className="ml-2 text-xs text-soft">
                  {p.severities.filter((s) => s.what !== "unknown").map((s) => `${s.what} ${share(s.events, p.events)}`).join(", ")}
                  {p.news === "new" && <span className="ml-2 font-medium text-goes-on">new</span>}
                  {p.news === "gone" && (
                    <span className="ml-2 font-medium text-removed" title={utc(p.last_ms)}>
                      gone
                    </span>
                  )}
                </span>
              </button>
              <button type="button" className={SMALL_BUTTON} aria-label={`Only these: ${p.text}`} onClick={() => onAdd(p.condition)}>
                Only these
              </button>
            </div>
            {open === p.id && <Sentences of={p} at={at} />}
          </li>
        ))}
      </ol>
    </>
  );
}
