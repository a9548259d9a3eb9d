/** A sentence of the plan, set as text, the same everywhere. */
export function Sentence({ text, className = "" }: { text: string; className?: string }) {
  const space = text.indexOf(" ");
  const verb = space < 0 ? text : text.slice(0, space);
  return (
    <code className={`font-mono text-xs leading-relaxed break-words ${className}`}>
      <span className="font-semibold">{verb}</span>
      {space < 0 ? "" : text.slice(space)}
    </code>
  );
}
