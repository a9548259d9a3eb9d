/** The places that one can go to from everywhere, as the router lists them. */
import { type LinkProps, useMatches, useRouter } from "@tanstack/react-router";
import { useEffect } from "react";

declare module "@tanstack/react-router" {
  interface StaticDataRouteOption {
    /** What the place is called; a page without a name is reached from others only. */
    place?: string;
    /** What the tab is called, of a page that is no place. */
    title?: string;
  }
}

/** Names the browser's tab after the page. */
export function usePageTitle(signedIn: boolean) {
  const page = useMatches().at(-1);
  const name = page?.params !== undefined && "name" in page.params ? `Route ${page.params.name}` : (page?.staticData.place ?? page?.staticData.title);
  const title = signedIn ? (name ?? "No such page") : "Sign in";
  useEffect(() => {
    document.title = `${title} – Rockrose`;
  }, [title]);
}

export type Place = { to: LinkProps["to"]; name: string };

export function usePlaces(): Place[] {
  const pages = Object.values(useRouter().routesById);
  return pages.flatMap(({ fullPath, options }) => (options.staticData?.place === undefined ? [] : [{ to: fullPath, name: options.staticData.place }]));
}
