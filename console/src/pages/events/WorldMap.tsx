/** Located events as dots by count on an outline of the world, with a table of the same numbers. */
import { type GeoProjection, geoEqualEarth, geoGraticule10, geoMercator, geoPath } from "d3-geo";
import { useEffect, useMemo, useState } from "react";
import { feature } from "topojson-client";
import type { Topology } from "topojson-specification";
import outline from "world-atlas/land-110m.json";

import { SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { count, events as inWords, share } from "../../lib/format";
import { type Located, located, placesIn } from "../../lib/located";
import { Message } from "../../parts/Message";
import type { Row } from "./EventList";

type Land = ReturnType<typeof feature>;

function landOf(file: unknown): Land {
  const topology = file as Topology;
  return feature(topology, topology.objects.land as never);
}

const coarse = landOf(outline);

/** The outline; a finer one, loaded when it is first wanted, for a closer look. */
function useLand(fine: boolean): Land {
  const [land, setLand] = useState<Land>(coarse);
  useEffect(() => {
    if (fine) void import("world-atlas/land-50m.json").then((file) => setLand(landOf(file.default)));
  }, [fine]);
  return fine ? land : coarse;
}
const [WIDTH, HEIGHT, MARGIN] = [1000, 480, 60];
/** The largest dot has this radius, and the least that one. */
const [LARGEST, LEAST] = [20, 4];
/** Of so many places the largest are drawn, listed and named. */
const [DRAWN, LISTED, NAMED] = [1000, 14, 8];
/** A closer look shows so many degrees at least: the outline is no finer. */
const CLOSEST = 2.5;
/** How much room a name takes, in the units of the drawing. */
const [LETTER, LINE] = [6.5, 14];

const CORNERS: [number, number][] = [
  [-1, -1],
  [1, -1],
  [1, 1],
  [-1, 1],
];

/** The whole world, or the part in which the places lie. */
function projected(places: Located[], whole: boolean): { projection: GeoProjection; fine: boolean } {
  const [west, east] = [Math.min(...places.map((p) => p.longitude)), Math.max(...places.map((p) => p.longitude))];
  const [south, north] = [Math.min(...places.map((p) => p.latitude)), Math.max(...places.map((p) => p.latitude))];
  if (whole || east - west > 150 || Math.max(north, -south) > 75) return { projection: geoEqualEarth().fitExtent([[4, 4], [WIDTH - 4, HEIGHT - 4]], { type: "Sphere" }), fine: false };
  const [half, tall] = [Math.max(CLOSEST, east - west) / 2, Math.max(CLOSEST / 3, north - south) / 2];
  const corners = CORNERS.map(([x, y]): [number, number] => [(west + east) / 2 + x * half, (south + north) / 2 + y * tall]);
  return { projection: geoMercator().fitExtent([[MARGIN, MARGIN], [WIDTH - MARGIN, HEIGHT - MARGIN]], { type: "MultiPoint", coordinates: corners }), fine: east - west < 60 };
}

interface Dot {
  place: Located;
  x: number;
  y: number;
  r: number;
}

/** Those whose names find room beside their dots, the largest first. */
function named(dots: Dot[]): Dot[] {
  const placed: Dot[] = [];
  const over = (a: Dot, b: Dot) => Math.abs(a.y - b.y) < LINE && a.x + a.r < b.x + b.r + LETTER * b.place.name.length && b.x + b.r < a.x + a.r + LETTER * a.place.name.length;
  for (const dot of dots) {
    if (placed.length < NAMED && !placed.some((other) => over(dot, other))) placed.push(dot);
  }
  return placed;
}

function Drawing({ places, whole, onAdd }: { places: Located[]; whole: boolean; onAdd: (condition: string) => void }) {
  const { projection, fine } = useMemo(() => {
    const seen = projected(places, whole);
    return { ...seen, projection: seen.projection.clipExtent([[0, 0], [WIDTH, HEIGHT]]) };
  }, [places, whole]);
  const land = useLand(fine);
  const { ground, lines, dots } = useMemo(() => {
    const path = geoPath(projection);
    const most = places[0]?.events ?? 1;
    const dot = (place: Located): Dot => {
      const [x, y] = projection([place.longitude, place.latitude]) ?? [-1, -1];
      return { place, x, y, r: Math.max(LEAST, LARGEST * Math.sqrt(place.events / most)) };
    };
    return { ground: path(land) ?? "", lines: path(geoGraticule10()) ?? "", dots: places.slice(0, DRAWN).map(dot) };
  }, [places, projection, land]);
  return (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={`${count(places.length)} places on an outline of the world; the table has their numbers`} className="w-full rounded border border-line bg-raised">
      <path d={lines} className="fill-none stroke-line" strokeWidth={0.5} />
      <path d={ground} className="fill-surface stroke-line-strong" strokeWidth={0.7} />
      {dots.map(({ place, x, y, r }) => (
        <circle key={`${x} ${y} ${place.name}`} cx={x} cy={y} r={r} className="cursor-pointer fill-arrive stroke-surface" fillOpacity={0.65} onClick={() => onAdd(place.condition)}>
          <title>{`${place.name === "" ? `${place.latitude}, ${place.longitude}` : place.name}: ${inWords(place.events)}`}</title>
        </circle>
      ))}
      {named(dots).map(({ place, x, y, r }) => (
        <text key={`${x} ${y} ${place.name}`} x={x + r + 4} y={y + 4} className="pointer-events-none fill-ink text-xs" paintOrder="stroke" stroke="var(--color-surface)" strokeWidth={3}>
          {place.name}
        </text>
      ))}
    </svg>
  );
}

export function WorldMap({ rows, onAdd }: { rows: Row[]; onAdd: (condition: string) => void }) {
  const [whole, setWhole] = useState(false);
  const [chosen, choose] = useState<string | null>(null);
  const ways = useMemo(() => placesIn(rows), [rows]);
  const by = chosen !== null && ways.includes(chosen) ? chosen : ways[0];
  const places = useMemo(() => (by === undefined ? [] : located(rows, by)), [rows, by]);
  if (by === undefined) {
    return (
      <Message title="No event here has a latitude and a longitude.">
        A step <code className="font-mono">locate FIELD in TABLE</code> adds them by address. Of a route that has one, look at the events as they leave its steps.
      </Message>
    );
  }
  const all = places.reduce((sum, p) => sum + p.events, 0);
  const stood = rows.reduce((sum, r) => sum + r.stands_for, 0);
  return (
    <div className="flex flex-col gap-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 text-sm text-soft">
        <p className="num">
          {share(all, stood)} of the events are located, at {places.length === 1 ? "one place" : `${count(places.length)} places`}.
        </p>
        {ways.length > 1 && (
          <label className="flex items-center gap-1.5">
            by
            <select value={by} onChange={(e) => choose(e.target.value)} className={FIELD}>
              {ways.map((way) => (
                <option key={way} value={way}>
                  {way === "" ? "the event itself" : way}
                </option>
              ))}
            </select>
          </label>
        )}
        <button type="button" aria-pressed={whole} className={SMALL_BUTTON} onClick={() => setWhole(!whole)}>
          {whole ? "Closer" : "The whole world"}
        </button>
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)_18rem] items-start gap-4 max-lg:grid-cols-1">
        <Drawing places={places} whole={whole} onAdd={onAdd} />
        <table className="w-full text-sm">
          <caption className="sr-only">Events by place</caption>
          <thead>
            <tr className="text-xs text-soft">
              <th scope="col" className="text-left font-normal">place</th>
              <th scope="col" className="text-right font-normal">events</th>
              <th scope="col" className="text-right font-normal">share</th>
            </tr>
          </thead>
          <tbody>
            {places.slice(0, LISTED).map((p) => (
              <tr key={`${p.latitude} ${p.longitude} ${p.name}`} className="border-t border-line align-baseline">
                <th scope="row" className="py-0.5 text-left font-normal">
                  <button type="button" title={`${p.latitude}, ${p.longitude}; add ${p.condition}`} onClick={() => onAdd(p.condition)} className="text-left hover:text-petal hover:underline">
                    {p.name === "" ? `${p.latitude}, ${p.longitude}` : p.name}
                  </button>
                </th>
                <td className="num py-0.5 text-right">{count(p.events)}</td>
                <td className="num py-0.5 text-right">{share(p.events, all)}</td>
              </tr>
            ))}
          </tbody>
          {places.length > LISTED && (
            <tfoot>
              <tr className="border-t border-line">
                <td colSpan={3} className="py-0.5 text-xs text-soft">
                  and {count(places.length - LISTED)} more places
                </td>
              </tr>
            </tfoot>
          )}
        </table>
      </div>
    </div>
  );
}
