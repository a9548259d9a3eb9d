/** Routes grouped by what their steps tag events with. */
import type { FlowRoute } from "../../api/client";

function tags(route: FlowRoute): Map<string, string> {
  const found = new Map<string, string>();
  for (const { sentence } of route.steps) {
    const list = /^tag (.*)$/.exec(sentence)?.[1] ?? "";
    for (const one of list.matchAll(/([\w.]+) = "((?:\\.|[^"\\])*)"/g)) found.set(one[1] ?? "", one[2] ?? "");
  }
  return found;
}

/** The tags by which routes can be grouped. */
export function tagNames(routes: FlowRoute[]): string[] {
  return [...new Set(routes.flatMap((r) => [...tags(r).keys()]))].sort();
}

export interface Group {
  name: string;
  routes: FlowRoute[];
}

/** Routes with the same value of a tag together; those without it last. Without a tag, all are one group without a name. */
export function grouped(routes: FlowRoute[], tag: string): Group[] {
  if (tag === "") return [{ name: "", routes }];
  const groups = new Map<string, FlowRoute[]>();
  for (const route of routes) {
    const value = tags(route).get(tag) ?? "";
    groups.set(value, [...(groups.get(value) ?? []), route]);
  }
  const named = (value: string) => (value === "" ? `no ${tag}` : `${tag} ${value}`);
  return [...groups].sort(([a], [b]) => Number(a === "") - Number(b === "") || a.localeCompare(b)).map(([value, of]) => ({ name: named(value), routes: of }));
}
