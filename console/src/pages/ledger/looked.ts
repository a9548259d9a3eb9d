/** What the ledger's page looks at, as its address says it. */

/** A span of time by its name, and how it is asked for. */
export const SPANS = [
  { value: "all", label: "Since the beginning", asked: "" },
  { value: "week", label: "Last week", asked: "minutes=10080" },
  { value: "day", label: "Last day", asked: "minutes=1440" },
  { value: "hour", label: "Last hour", asked: "minutes=60" },
  { value: "minutes", label: "Last 5 minutes", asked: "minutes=5" },
];

export interface LedgerSearch {
  /** One of `SPANS`; left out, everything since the beginning. */
  span?: string;
  /** Milliseconds since 1970; both or neither, and then no `span`. */
  from?: number;
  to?: number;
  /** Only accounts whose names contain this. */
  find?: string;
}

const moment = (ms: unknown) => (typeof ms === "number" && Number.isSafeInteger(ms) && ms >= 0 ? ms : undefined);

export function readSearch(search: Record<string, unknown>): LedgerSearch {
  const [from, to] = [moment(search.from), moment(search.to)];
  const span = SPANS.find((s) => s.value === search.span && s.asked !== "")?.value;
  // A name may look like a number.
  const find = typeof search.find === "string" || typeof search.find === "number" ? String(search.find) : "";
  return {
    ...(from !== undefined && to !== undefined ? { from, to } : span !== undefined && { span }),
    ...(find !== "" && { find }),
  };
}

/** What the service is asked for; of a span that ends before it begins, the last minutes. */
export function asked({ span, from, to }: LedgerSearch): string {
  if (from !== undefined && to !== undefined) return from < to ? `from_ms=${from}&to_ms=${to}` : "minutes=5";
  return SPANS.find((s) => s.value === span)?.asked ?? "";
}
