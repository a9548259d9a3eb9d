/** Sentences put together from what was chosen. */

/** A text as it is written in a sentence. */
export function quoted(text: string): string {
  return `"${text.replaceAll("\\", "\\\\").replaceAll('"', '\\"').replaceAll("\n", "\\n").replaceAll("\t", "\\t")}"`;
}

/** A field's name as it is written in a sentence: odd ones in quotes. */
export function fieldName(name: string): string {
  return /^[A-Za-z_@][\w@-]*(\.[\w@-]+)*$/.test(name) ? name : quoted(name);
}

/** A value that was seen, as it is written: a number only where the field's values are numbers. */
export function literal(value: string, isNumber: boolean): string {
  if (value === "true" || value === "false") return value;
  return isNumber && /^-?\d+(\.\d+)?$/.test(value) ? value : quoted(value);
}

/** A condition with another beside it. */
export function joined(before: string, by: "and" | "or", more: string): string {
  if (before.trim() === "") return more;
  const whole = by === "and" && /\bor\b/.test(before.replaceAll(/"(\\.|[^"])*"/g, "")) ? `(${before.trim()})` : before.trim();
  return `${whole} ${by} ${more}`;
}
