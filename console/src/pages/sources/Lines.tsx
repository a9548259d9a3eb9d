/** Lines to paste, with the right values in them. */
import { useState } from "react";

import type { Source } from "../../api/client";
import { SMALL_BUTTON } from "../../design/buttons";

/** What stands for this service's address and the key, put in. */
function filled(line: string, key: string | null): string {
  const host = line.replaceAll(/\bHOST\b/g, window.location.hostname);
  return key === null ? host : host.replaceAll(/\bKEY\b/g, key);
}

export function Lines({ source, sentKey = null }: { source: Source; sentKey?: string | null }) {
  const [copied, setCopied] = useState<string | null>(null);
  if (source.send.length === 0) return null;
  return (
    <ul className="flex flex-col gap-1.5 text-sm" aria-label={`To send to ${source.name}`}>
      {source.send.map((l) => {
        const line = filled(l.line, sentKey);
        return (
          <li key={l.with} className="grid grid-cols-[12rem_minmax(0,1fr)_auto] items-start gap-2 max-md:grid-cols-1">
            <span className="text-soft">{l.with}</span>
            <code className="rounded bg-raised px-2 py-0.5 font-mono text-xs break-words whitespace-pre-wrap">{line}</code>
            <button type="button" aria-label={`Copy the line for ${l.with}`} onClick={() => void navigator.clipboard.writeText(line).then(() => setCopied(line))} className={SMALL_BUTTON}>
              {copied === line ? "Copy ✓" : "Copy"}
            </button>
          </li>
        );
      })}
    </ul>
  );
}
