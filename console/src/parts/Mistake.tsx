/** A mistake in a sentence, marked at its place. */
export interface Mistaken {
  column: number;
  length: number;
  message: string;
  expected?: string | null;
  nearest?: string | null;
}

export function Marked({ text, mistake }: { text: string; mistake: Mistaken }) {
  const letters = [...text];
  const at = mistake.column - 1;
  const end = at + Math.max(1, mistake.length);
  const wrong = letters.slice(at, end).join("");
  return (
    <span className="font-mono text-xs break-words">
      {letters.slice(0, at).join("")}
      <mark className="border-b-2 border-fails bg-transparent text-fails">{wrong === "" ? "\u00a0" : wrong}</mark>
      {letters.slice(end).join("")}
    </span>
  );
}

/** What is wrong, in words. */
export function wrong({ message, expected, nearest }: Mistaken): string {
  const words = `${message}${expected == null ? "" : `; expected ${expected}`}${nearest == null ? "" : `; did you mean ${nearest}?`}`;
  return words.replaceAll("`", "");
}
