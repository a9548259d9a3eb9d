/** What is looked at on the Events page: it stands in the address, so that it can be sent to somebody. */
export type View = "events" | "patterns" | "map";
export type Order = "tells" | "bytes" | "name";

export interface Column {
  name: string;
  /** In characters. */
  width: number;
}

export interface EventsSearch {
  at?: string;
  when?: string;
  view?: View;
  order?: Order;
  columns?: string;
  live?: true;
  /** Of a route: as its events leave its steps. */
  leaving?: true;
}

const text = (value: unknown) => (typeof value === "string" && value !== "" ? value : undefined);

export function readSearch(search: Record<string, unknown>): EventsSearch {
  const [at, when, columns] = [text(search.at), text(search.when), text(search.columns)];
  return {
    ...(at !== undefined && { at }),
    ...(when !== undefined && { when }),
    ...((search.view === "patterns" || search.view === "map") && { view: search.view }),
    ...((search.order === "bytes" || search.order === "name") && { order: search.order }),
    ...(columns !== undefined && { columns }),
    ...(search.live === true && { live: true }),
    ...(search.leaving === true && { leaving: true }),
  };
}

/** Columns as they stand in the address: names with their widths. */
export function readColumns(columns: string | undefined): Column[] {
  if (columns === undefined) return [];
  return columns.split(",").flatMap((one) => {
    const at = one.lastIndexOf("~");
    const name = decodeURIComponent(at < 0 ? one : one.slice(0, at));
    return name === "" ? [] : [{ name, width: Math.min(60, Math.max(6, at < 0 ? 14 : Number(one.slice(at + 1)) || 14)) }];
  });
}

export const writeColumns = (columns: Column[]) => columns.map((c) => `${encodeURIComponent(c.name)}~${c.width}`).join(",");
