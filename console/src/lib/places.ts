/** The places that one can go to from everywhere, as the router lists them. */
import { type LinkProps, useRouter } from "@tanstack/react-router";

declare module "@tanstack/react-router" {
  interface StaticDataRouteOption {
    /** What the place is called; a page without a name is reached from others only. */
    place?: string;
  }
}

export type Place = { to: LinkProps["to"]; name: string };

export function usePlaces(): Place[] {
  const pages = Object.values(useRouter().routesById);
  return pages.flatMap(({ fullPath, options }) => (options.staticData?.place === undefined ? [] : [{ to: fullPath, name: options.staticData.place }]));
}
