/** The pages of the plan. */
import { Link } from "@tanstack/react-router";

const PAGES = [
  { to: "/plan", name: "Sentences" },
  { to: "/plan/suggestions", name: "Suggestions" },
  { to: "/plan/examples", name: "Examples" },
  { to: "/plan/revisions", name: "Revisions" },
] as const;

export function PlanNav() {
  return (
    <nav aria-label="Pages of the plan" className="flex gap-3 text-sm">
      {PAGES.map((page) => (
        <Link key={page.to} to={page.to} activeOptions={{ exact: true, includeSearch: false }} className="text-petal underline-offset-4 hover:underline data-[status=active]:font-semibold data-[status=active]:text-ink data-[status=active]:no-underline">
          {page.name}
        </Link>
      ))}
    </nav>
  );
}
