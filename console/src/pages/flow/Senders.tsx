/** Of a source: what is wrong with its senders and what helps, and lines to paste to send to it. */
import { useState } from "react";

import { useSources } from "../../api/client";
import { age, count } from "../../lib/format";

export function Senders({ name, now }: { name: string; now: number }) {
  const sources = useSources();
  const [copied, setCopied] = useState<string | null>(null);
  const source = sources.data?.find((s) => s.name === name);
  if (source === undefined) return null;
  const copy = async (line: string) => {
    await navigator.clipboard.writeText(line);
    setCopied(line);
  };
  return (
    <div className="flex max-h-32 flex-col gap-1.5 overflow-y-auto text-sm">
      <p className="text-soft">
        {source.says}
        {typeof source.last_event_ms === "number" && `; the last event came ${age(now - source.last_event_ms)} ago`}
        {typeof source.last_from === "string" && ` from ${source.last_from}`}
        {source.connections > 0 && (source.connections === 1 ? "; one connection" : `; ${count(source.connections)} connections`)}
      </p>
      {source.troubles.map((t) => (
        <p key={t.what} className="text-fails">
          <span aria-hidden="true">▲</span> {t.says}
          {typeof t.from === "string" && `, from ${t.from}`} ({t.times === 1 ? "once" : `${count(t.times)} times, last`} {age(now - t.last_ms)} ago).{" "}
          <span className="text-ink">
            {t.remedy.split("`").map((part, i) => (i % 2 === 1 ? <code key={i} className="font-mono text-xs">{part}</code> : part))}
          </span>
        </p>
      ))}
      <ul className="flex flex-col gap-1" aria-label="To send to it">
        {source.send.map((l) => (
          <li key={l.with} className="flex items-baseline gap-2">
            <span className="w-48 shrink-0 text-soft">{l.with}</span>
            <code className="min-w-0 flex-1 truncate font-mono text-xs" title={l.line}>
              {l.line}
            </code>
            <button type="button" onClick={() => void copy(l.line)} className="rounded border border-line px-2 py-0.5 text-xs hover:border-line-strong">
              {copied === l.line ? "Copied" : "Copy"}
            </button>
          </li>
        ))}
      </ul>
    </div>
  );
}
