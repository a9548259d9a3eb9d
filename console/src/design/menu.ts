/** How an entry of a menu looks. */
export const ITEM = "cursor-pointer rounded px-2 py-1 text-sm outline-none data-[highlighted]:bg-petal-wash data-[highlighted]:text-petal data-[disabled]:opacity-50";
export const MENU = "card z-20 min-w-40 p-1.5 shadow-(--shadow)";
