/** What is said where there is nothing to show: empty, loading, failing. */
import type { ReactNode } from "react";

export function Message({ title, children, tone = "plain", heading = false }: { title: string; children?: ReactNode; tone?: "plain" | "fails"; heading?: boolean }) {
  const Title = heading ? "h1" : "p";
  return (
    <div role={tone === "fails" ? "alert" : "status"} className={`card max-w-2xl p-5 ${tone === "fails" ? "border-fails" : ""}`}>
      <Title className={`font-semibold ${tone === "fails" ? "text-fails" : ""}`}>{title}</Title>
      {children !== undefined && <div className="mt-1 text-sm text-soft">{children}</div>}
    </div>
  );
}

export function Paste({ line }: { line: string }) {
  return <pre className="mt-2 overflow-x-auto rounded bg-raised px-3 py-2 font-mono text-xs text-ink">{line}</pre>;
}
