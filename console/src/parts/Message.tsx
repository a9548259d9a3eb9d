/** What is said where there is nothing to show: empty, loading, failing. */
import { type ReactNode, useState } from "react";

import { SMALL_BUTTON } from "../design/buttons";

export function Message({ title, children, tone = "plain", heading = false }: { title: string; children?: ReactNode; tone?: "plain" | "fails"; heading?: boolean }) {
  const Title = heading ? "h1" : "p";
  return (
    <div role={tone === "fails" ? "alert" : "status"} className={`card max-w-2xl p-5 ${tone === "fails" ? "border-fails" : ""}`}>
      <Title className={`font-semibold ${tone === "fails" ? "text-fails" : ""}`}>{title}</Title>
      {children !== undefined && <div className="mt-1 text-sm text-soft">{children}</div>}
    </div>
  );
}

/** What went wrong with something that was asked for, if anything did. */
export function Wrong({ says }: { says: string | undefined }) {
  if (says === undefined) return null;
  return (
    <p role="alert" className="text-sm text-fails">
      ▲ {says}
    </p>
  );
}

/** A line to paste elsewhere, whole, with a button that copies it. */
export function Paste({ line }: { line: string }) {
  const [copied, setCopied] = useState("");
  return (
    <div className="mt-2 flex items-start gap-2">
      <pre className="min-w-0 flex-1 rounded bg-raised px-3 py-2 font-mono text-xs break-all whitespace-pre-wrap text-ink">{line}</pre>
      <button type="button" className={SMALL_BUTTON} onClick={() => void navigator.clipboard.writeText(line).then(() => setCopied("✓ copied"), () => setCopied("cannot copy here"))}>
        Copy
      </button>
      <span role="status" className="self-center text-xs text-soft">
        {copied}
      </span>
    </div>
  );
}
