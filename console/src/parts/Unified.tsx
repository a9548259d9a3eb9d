/** The difference between two texts, line by line: what went is struck through, what came is underlined. */
export function Unified({ text, label }: { text: string; label: string }) {
  return (
    <pre className="max-h-96 shrink-0 overflow-auto rounded bg-raised px-3 py-2 font-mono text-xs" tabIndex={0} aria-label={label}>
      {text.split("\n").map((line, i) =>
        line.startsWith("@@") ? (
          <span key={i} className="block text-soft">
            …
          </span>
        ) : line.startsWith("-") ? (
          <del key={i} className="block text-removed line-through decoration-1">
            {line.slice(1)}
          </del>
        ) : line.startsWith("+") ? (
          <ins key={i} className="block text-goes-on no-underline">
            <span className="underline decoration-1 underline-offset-2">{line.slice(1)}</span>
          </ins>
        ) : (
          <span key={i} className="block min-h-4">
            {line.slice(1)}
          </span>
        ),
      )}
    </pre>
  );
}
