/** How buttons look: the usual one, and the one that stands within a line. */
export const BUTTON = "rounded border border-line px-2.5 py-1 text-sm hover:border-line-strong disabled:opacity-60";
export const SMALL_BUTTON = "rounded border border-line px-2 py-0.5 text-xs hover:border-line-strong disabled:opacity-60";
