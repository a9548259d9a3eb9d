/** What a route did to one event, as one text: pieces that stayed, went or came. */

export type Piece = { kind: "same" | "gone" | "new"; text: string };

type Json = unknown;

function isObject(value: Json): value is Record<string, Json> {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

/** Two texts with a common beginning and end: what lies between went and came. */
function texts(before: string, after: string): Piece[] {
  let start = 0;
  while (start < before.length && start < after.length && before[start] === after[start]) start++;
  let end = 0;
  while (end < before.length - start && end < after.length - start && before[before.length - 1 - end] === after[after.length - 1 - end]) end++;
  return [
    { kind: "same", text: before.slice(0, start) },
    { kind: "gone", text: before.slice(start, before.length - end) },
    { kind: "new", text: after.slice(start, after.length - end) },
    { kind: "same", text: before.slice(before.length - end) },
  ];
}

function walk(before: Record<string, Json>, after: Record<string, Json>, out: Piece[]): void {
  out.push({ kind: "same", text: "{" });
  let first = true;
  const put = (kind: Piece["kind"], text: string) => {
    out.push({ kind, text: (first ? "" : ", ") + text });
    first = false;
  };
  for (const [name, was] of Object.entries(before)) {
    const key = `${JSON.stringify(name)}: `;
    if (!(name in after)) {
      put("gone", key + JSON.stringify(was));
      continue;
    }
    const is = after[name];
    if (JSON.stringify(was) === JSON.stringify(is)) {
      put("same", key + JSON.stringify(was));
    } else if (isObject(was) && isObject(is)) {
      put("same", key);
      walk(was, is, out);
    } else {
      put("same", key);
      out.push(...texts(JSON.stringify(was), JSON.stringify(is)));
    }
  }
  for (const [name, is] of Object.entries(after)) {
    if (!(name in before)) put("new", `${JSON.stringify(name)}: ${JSON.stringify(is)}`);
  }
  out.push({ kind: "same", text: "}" });
}

/** The pieces of an event that came as `before` and went on as `after`; with `null` it was removed whole. */
export function difference(before: Json, after: Json): Piece[] {
  if (after === null || after === undefined) {
    return isObject(before) ? difference(before, before).map((p) => ({ kind: "gone", text: p.text })) : [{ kind: "gone", text: JSON.stringify(before) }];
  }
  if (!isObject(before) || !isObject(after)) return texts(JSON.stringify(before), JSON.stringify(after));
  const pieces: Piece[] = [];
  walk(before, after, pieces);
  return joined(pieces);
}

/** Neighbours of one kind as one piece. */
function joined(pieces: Piece[]): Piece[] {
  const out: Piece[] = [];
  for (const piece of pieces.filter((p) => p.text !== "")) {
    const last = out.at(-1);
    if (last?.kind === piece.kind) last.text += piece.text;
    else out.push({ ...piece });
  }
  return out;
}
