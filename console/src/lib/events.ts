/** What is shown of an event: its message, its severity, the values of its fields. */

type Json = Record<string, unknown>;

const MESSAGES = ["message", "msg", "body", "text", "log"];
const SEVERITIES = ["severity", "level", "lvl", "loglevel", "severity_text"];

export function isObject(value: unknown): value is Json {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

function first(event: unknown, names: string[]): string | null {
  if (!isObject(event)) return null;
  for (const name of names) if (typeof event[name] === "string") return event[name];
  return null;
}

export const messageOf = (event: unknown) => first(event, MESSAGES);
export const severityOf = (event: unknown) => first(event, SEVERITIES)?.toLowerCase() ?? null;

/** A field by its path: the one with just this name, else the nested one. */
export function valueOf(event: unknown, path: string): unknown {
  if (!isObject(event)) return undefined;
  if (path in event) return event[path];
  for (let at = path.indexOf("."); at > 0; at = path.indexOf(".", at + 1)) {
    const inner = valueOf(event[path.slice(0, at)], path.slice(at + 1));
    if (inner !== undefined) return inner;
  }
  return undefined;
}

/** All fields with their paths, nested ones joined by dots. */
export function fieldsOf(event: unknown, prefix = ""): [string, unknown][] {
  if (!isObject(event)) return [];
  return Object.entries(event).flatMap(([name, value]): [string, unknown][] => (isObject(value) && Object.keys(value).length > 0 ? fieldsOf(value, `${prefix}${name}.`) : [[prefix + name, value]]));
}

/** A value as it is read. */
export function shown(value: unknown): string {
  return value === undefined ? "" : typeof value === "string" ? value : JSON.stringify(value);
}

/** An argument of a shell, in quotes where it needs them. */
export function shellQuoted(text: string): string {
  return /^[\w:./@-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`;
}
