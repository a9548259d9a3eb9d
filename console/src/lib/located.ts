/** Where events are located, by the latitude and longitude that stand in them. */
import { fieldsOf, valueOf } from "./events";
import { fieldName, quoted } from "./sentences";

/** What latitudes are called, and the longitudes beside them. */
const NAMES: [string, string][] = [
  ["latitude", "longitude"],
  ["lat", "lon"],
  ["lat", "lng"],
];
/** What places are called, the nearest first. */
const CALLED = ["city", "town", "region", "country", "name"];

export interface Located {
  latitude: number;
  longitude: number;
  /** What the place is called; nothing, if that is not known. */
  name: string;
  /** The condition that finds its events. */
  condition: string;
  /** How many events it stands for. */
  events: number;
}

interface Weighed {
  stands_for: number;
  event: unknown;
}

function degrees(value: unknown, most: number): number | null {
  const number = typeof value === "number" ? value : typeof value === "string" && value.trim() !== "" ? Number(value) : NaN;
  return Math.abs(number) <= most ? number : null;
}

const below = (prefix: string, name: string) => (prefix === "" ? name : `${prefix}.${name}`);

/** The fields under which events have both, the most frequent first, such as `geo`; of events that have them at the top, the empty text. */
export function placesIn(events: Weighed[]): string[] {
  const found = new Map<string, number>();
  for (const { event, stands_for } of events) {
    for (const [name] of fieldsOf(event)) {
      const at = name.lastIndexOf(".");
      const prefix = at < 0 ? "" : name.slice(0, at);
      if (NAMES.some(([latitude]) => name === below(prefix, latitude)) && locate(event, prefix) !== null) found.set(prefix, (found.get(prefix) ?? 0) + stands_for);
    }
  }
  return [...found].sort(([, a], [, b]) => b - a).map(([prefix]) => prefix);
}

function locate(event: unknown, prefix: string): Omit<Located, "events"> | null {
  for (const names of NAMES) {
    const [north, east] = [below(prefix, names[0]), below(prefix, names[1])];
    const [latitude, longitude] = [degrees(valueOf(event, north), 90), degrees(valueOf(event, east), 180)];
    if (latitude === null || longitude === null) continue;
    const called = CALLED.map((name) => below(prefix, name)).find((name) => typeof valueOf(event, name) === "string");
    const name = called === undefined ? "" : String(valueOf(event, called));
    const condition = called === undefined ? `${fieldName(north)} = ${latitude} and ${fieldName(east)} = ${longitude}` : `${fieldName(called)} = ${quoted(name)}`;
    return { latitude, longitude, name, condition };
  }
  return null;
}

/** The places of events, those with most events first. */
export function located(events: Weighed[], prefix: string): Located[] {
  const places = new Map<string, Located>();
  for (const { event, stands_for } of events) {
    const place = locate(event, prefix);
    if (place === null) continue;
    const key = `${place.latitude} ${place.longitude} ${place.name}`;
    const known = places.get(key);
    if (known === undefined) places.set(key, { ...place, events: stands_for });
    else known.events += stands_for;
  }
  return [...places.values()].sort((a, b) => b.events - a.events);
}
