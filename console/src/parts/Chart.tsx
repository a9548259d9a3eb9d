/** Bars over time, drawn by a library in the colours of the palette. Load it late: the library comes with it. */
import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

export interface Series {
  /** A colour of the palette, such as `removed`. */
  colour: string;
  /** One for each time; `null`, where nothing is known. */
  values: (number | null)[];
  /** Drawn from the top down, as a share of the height from 0 to 1. */
  fromTop?: boolean;
  faint?: boolean;
}

interface ChartProps {
  /** When each stretch begins, in milliseconds since 1970. */
  times: number[];
  /** How long a stretch is, in milliseconds. */
  stretch: number;
  series: Series[];
  /** What is seen, for those who do not see it. */
  says: string;
  /** What is said of one stretch, under the pointer. */
  told: (at: number) => string;
  /** A value of the axis, as it is written. */
  written: (value: number) => string;
  height: number;
}

/** A colour of the palette as it is now, in light or dark. */
function resolved(within: HTMLElement, name: string): string {
  const probe = document.createElement("span");
  probe.style.color = `var(--${name})`;
  within.append(probe);
  const colour = getComputedStyle(probe).color;
  probe.remove();
  return colour;
}

/** Calls when the page turns light or dark. */
function onTheme(call: () => void): () => void {
  const system = window.matchMedia("(prefers-color-scheme: dark)");
  const chosen = new MutationObserver(call);
  system.addEventListener("change", call);
  chosen.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
  return () => {
    system.removeEventListener("change", call);
    chosen.disconnect();
  };
}

function options({ stretch, series, written, height }: ChartProps, within: HTMLElement, point: (at: number | null) => void): uPlot.Options {
  const soft = resolved(within, "ink-soft");
  const line = resolved(within, "line");
  const bars = uPlot.paths.bars?.({ size: [0.86, 40], align: 1 });
  const axis = { stroke: soft, font: '11px "Public Sans Variable", sans-serif', grid: { stroke: line, width: 1 }, ticks: { show: false } };
  return {
    width: Math.max(1, within.clientWidth),
    height,
    legend: { show: false },
    cursor: { y: false, drag: { setScale: false }, points: { show: false } },
    padding: [4, 4, 0, 0],
    scales: {
      x: { time: true, range: (_, from, to) => [from, to + stretch / 1000] },
      y: { range: (_, __, most) => [0, Math.max(1, most)] },
      top: { range: [0, 1], dir: -1 },
    },
    axes: [
      { ...axis, size: 20, gap: 2, values: "{HH}:{mm}", grid: { show: false }, space: 70 },
      { ...axis, size: 52, gap: 4, space: 24, values: (_, all) => all.map(written) },
    ],
    series: [
      {},
      ...series.map((s): uPlot.Series => ({
        scale: s.fromTop === true ? "top" : "y",
        width: 0,
        fill: resolved(within, s.colour),
        alpha: s.faint === true ? 0.35 : 1,
        points: { show: false },
        ...(bars !== undefined && { paths: bars }),
      })),
    ],
    hooks: { setCursor: [(plot) => point(plot.cursor.idx ?? null)] },
  };
}

const dataOf = ({ times, series }: ChartProps): uPlot.AlignedData => [times.map((at) => at / 1000), ...series.map((s) => s.values)];

export default function Chart(props: ChartProps) {
  const within = useRef<HTMLDivElement>(null);
  const said = useRef<HTMLParagraphElement>(null);
  const plot = useRef<uPlot | null>(null);
  const latest = useRef(props);
  useEffect(() => {
    latest.current = props;
    plot.current?.setData(dataOf(props));
  });
  useEffect(() => {
    const at = within.current;
    if (at === null) return;
    const point = (index: number | null) => {
      if (said.current !== null) said.current.textContent = index === null ? "" : latest.current.told(index);
    };
    const draw = () => {
      plot.current?.destroy();
      plot.current = new uPlot(options(latest.current, at, point), dataOf(latest.current), at);
    };
    draw();
    const width = new ResizeObserver(() => plot.current?.setSize({ width: Math.max(1, at.clientWidth), height: latest.current.height }));
    width.observe(at);
    const themes = onTheme(draw);
    return () => {
      width.disconnect();
      themes();
      plot.current?.destroy();
      plot.current = null;
    };
  }, []);
  return (
    <div className="relative">
      <div ref={within} role="img" aria-label={props.says} className="w-full overflow-hidden" style={{ height: props.height }} />
      <p ref={said} aria-hidden="true" className="num pointer-events-none absolute top-0 right-1 bg-surface/80 px-1 text-xs text-soft" />
    </div>
  );
}
