/** A sentence of the plan, set as text, the same everywhere. */
export function Sentence({ text, className = "" }: { text: string; className?: string }) {
  const verb = /^(look up|merge repeats|join lines|\S+)/.exec(text)?.[0] ?? "";
  return (
    <code className={`font-mono text-xs leading-relaxed break-words ${className}`}>
      <span className="font-semibold">{verb}</span>
      {text.slice(verb.length)}
    </code>
  );
}
