/** Routes grouped by the team that they belong to, or by what their steps tag events with. */
import type { FlowRoute } from "../api/client";

function tags(route: FlowRoute): Map<string, string> {
  const found = new Map<string, string>();
  for (const { sentence } of route.steps) {
    const list = /^tag (.*)$/.exec(sentence)?.[1] ?? "";
    for (const one of list.matchAll(/([\w.]+) = "((?:\\.|[^"\\])*)"/g)) found.set(one[1] ?? "", one[2] ?? "");
  }
  return found;
}

/** By what routes can be grouped: `team`, or `tag NAME`. */
export function groupings(routes: FlowRoute[]): string[] {
  const names = [...new Set(routes.flatMap((r) => [...tags(r).keys()]))].sort();
  return [...(routes.some((r) => r.team != null) ? ["team"] : []), ...names.map((name) => `tag ${name}`)];
}

/** The group of a route; nothing, if it has none. */
function groupOf(route: FlowRoute, by: string): string {
  return (by === "team" ? route.team : tags(route).get(by.slice("tag ".length))) ?? "";
}

export interface Group {
  name: string;
  routes: FlowRoute[];
}

/** Routes of the same group together; those of none last. If nothing is said, all are one group without a name. */
export function grouped(routes: FlowRoute[], by: string): Group[] {
  if (by === "") return [{ name: "", routes }];
  const groups = new Map<string, FlowRoute[]>();
  for (const route of routes) {
    const group = groupOf(route, by);
    groups.set(group, [...(groups.get(group) ?? []), route]);
  }
  const word = by.replace(/^tag /, "");
  const named = (group: string) => (group === "" ? `no ${word}` : `${word} ${group}`);
  return [...groups].sort(([a], [b]) => Number(a === "") - Number(b === "") || a.localeCompare(b)).map(([group, of]) => ({ name: named(group), routes: of }));
}
