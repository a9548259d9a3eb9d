/** How fields look that are written or chosen in. */
export const FIELD = "rounded border border-line bg-surface px-2 py-1 text-sm text-ink focus:border-petal focus:outline-none";
