/** Bands between the cards, as thick as their bytes. */
import { type RefObject, useLayoutEffect, useState } from "react";

import { bytes } from "../../lib/format";

export type Band = { from: string; to: string; bytes: number; kind: "arrive" | "goes-on" | "remainder" };

/** Thickest band, in pixels. */
const THICK = 22;
/** Up to so many bands can be gone through by keyboard. */
const FOCUSED = 30;
/** A band that nothing passes is still drawn, as a thin line. */
const THIN = 1;

/** Of more bands than these, the thickest ones are drawn. */
const MOST = 400;

/** The bands that are drawn: of very many, those of the chosen point and those that carry most. */
export function ofMany(bands: Band[], chosen: string | null): Band[] {
  if (bands.length <= MOST) return bands;
  const isChosen = (b: Band) => b.from === chosen || b.to === chosen;
  return [...bands].sort((a, b) => Number(isChosen(b)) - Number(isChosen(a)) || b.bytes - a.bytes).slice(0, MOST);
}

type Drawn = { key: string; path: string; width: number; kind: Band["kind"]; touched: boolean; says: string };

const COLOUR = { arrive: "var(--band-arrive)", "goes-on": "var(--band-goes-on)", remainder: "var(--band-remainder)" };

function layout(within: HTMLElement, bands: Band[], chosen: string | null): Drawn[] {
  const base = within.getBoundingClientRect();
  const boxes = new Map<string, DOMRect>();
  for (const card of within.querySelectorAll<HTMLElement>("[data-point]")) boxes.set(card.dataset.point ?? "", card.getBoundingClientRect());
  const most = Math.max(1, ...bands.map((b) => b.bytes));
  const width = (of: number) => Math.max(THIN, (THICK * of) / most);
  // Bands leave and enter a card one below the other, in the order of what they lead to.
  const sorted = [...bands].sort((a, b) => (boxes.get(a.to)?.top ?? 0) - (boxes.get(b.to)?.top ?? 0) || (boxes.get(a.from)?.top ?? 0) - (boxes.get(b.from)?.top ?? 0));
  const whole = { from: new Map<string, number>(), to: new Map<string, number>() };
  for (const band of bands) {
    for (const end of ["from", "to"] as const) whole[end].set(band[end], (whole[end].get(band[end]) ?? 0) + width(band.bytes) + 2);
  }
  const used = { from: new Map<string, number>(), to: new Map<string, number>() };
  const place = (end: "from" | "to", point: string, box: DOMRect, w: number) => {
    const before = used[end].get(point) ?? 0;
    used[end].set(point, before + w + 2);
    // Bands meet a card near its head, where its name stands.
    const middle = box.top - base.top + Math.min(box.height / 2, 40);
    return middle - (whole[end].get(point) ?? 0) / 2 + before + w / 2;
  };
  const drawn: Drawn[] = [];
  // What no route takes is drawn first, so that it lies under what matters.
  for (const band of [...sorted.filter((b) => b.kind === "remainder"), ...sorted.filter((b) => b.kind !== "remainder")]) {
    const from = boxes.get(band.from);
    const to = boxes.get(band.to);
    if (from === undefined || to === undefined || to.left < from.right) continue;
    const w = width(band.bytes);
    const [y1, y2] = [place("from", band.from, from, w), place("to", band.to, to, w)];
    const [x1, x2] = [from.right - base.left, to.left - base.left];
    const bend = (x2 - x1) / 2;
    drawn.push({
      key: `${band.from} ${band.to}`,
      path: `M${x1} ${y1}C${x1 + bend} ${y1} ${x2 - bend} ${y2} ${x2} ${y2}`,
      width: w,
      kind: band.kind,
      says: `${band.from.replace(":", " ")} → ${band.to.replace(":", " ")}: ${bytes(band.bytes)}/s`,
      touched: chosen === null || band.from === chosen || band.to === chosen,
    });
  }
  return drawn;
}

export function Bands({ within, bands, chosen }: { within: RefObject<HTMLDivElement | null>; bands: Band[]; chosen: string | null }) {
  const [drawn, setDrawn] = useState<Drawn[]>([]);
  useLayoutEffect(() => {
    const box = within.current;
    if (box === null) return;
    const draw = () => setDrawn((old) => {
      const fresh = layout(box, bands, chosen);
      return JSON.stringify(fresh) === JSON.stringify(old) ? old : fresh;
    });
    draw();
    const observer = new ResizeObserver(draw);
    observer.observe(box);
    return () => observer.disconnect();
  }, [within, bands, chosen]);
  return (
    <svg role="group" aria-label="What flows from where to where" className="pointer-events-none absolute inset-0 h-full w-full">
      {drawn.map((b) => (
        <path
          key={b.key}
          role="img"
          aria-label={b.says}
          // With many bands, going through them would keep the keyboard from what follows.
          tabIndex={drawn.length <= FOCUSED ? 0 : -1}
          className="pointer-events-auto focus-visible:stroke-petal"
          d={b.path}
          fill="none"
          stroke={COLOUR[b.kind]}
          strokeWidth={b.width}
          opacity={(b.kind === "remainder" ? 0.55 : 1) * (b.touched ? 1 : 0.3)}
        >
          <title>{b.says}</title>
        </path>
      ))}
    </svg>
  );
}
