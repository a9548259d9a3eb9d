/** A sentence of the plan, set as text, the same everywhere: of a step its verb in bold. */
export function Sentence({ text, condition = false, className = "" }: { text: string; condition?: boolean; className?: string }) {
  const verb = condition ? "" : (/^(look up|merge repeats|join lines|\S+)/.exec(text)?.[0] ?? "");
  return (
    <code className={`font-mono text-xs leading-relaxed break-words ${className}`}>
      <span className="font-semibold">{verb}</span>
      {text.slice(verb.length)}
    </code>
  );
}
