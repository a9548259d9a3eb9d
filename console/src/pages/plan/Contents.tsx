/** The parts of the plan in the order in which events pass them, each with what changed and what it takes away. */
import { Link } from "@tanstack/react-router";

import { useState } from "react";

import type { OutlinePart } from "../../api/plan";
import { FIELD } from "../../design/fields";
import { count, share } from "../../lib/format";
import { AddAlert } from "./AddAlert";
import { AddBudget } from "./AddBudget";
import { AddKit } from "./AddKit";
import { AddRoute } from "./AddRoute";
import { partOf, useDraft } from "./draft";

const GROUPS = [
  { kind: "source", title: "Sources" },
  { kind: "route", title: "Routes" },
  { kind: "destination", title: "Destinations" },
  { kind: "recipe", title: "Recipes" },
  { kind: "table", title: "Tables" },
  { kind: "alert", title: "Alerts" },
  { kind: "budget", title: "Budgets" },
  { kind: "collect", title: "What agents collect" },
  { kind: "assignment", title: "Assignments" },
];

const isWrong = (part: OutlinePart) => part.when?.mistake != null || part.steps.some((s) => s.mistake != null);

function Entry({ part, chosen }: { part: OutlinePart; chosen: boolean }) {
  const { trial } = useDraft();
  const { kind, name } = partOf(part.part);
  const tried = trial?.parts.find((p) => p.part === kind && p.name === name);
  const taken = tried === undefined || tried.came.bytes <= 0 ? 0 : tried.came.bytes - tried.went.bytes;
  return (
    <li>
      <Link
        to="/plan"
        search={{ part: part.part }}
        replace
        data-chosen={chosen}
        className="flex items-baseline gap-2 rounded px-2 py-0.5 text-sm hover:bg-raised data-[chosen=true]:bg-petal-wash data-[chosen=true]:font-medium data-[chosen=true]:text-petal"
      >
        <span className="min-w-0 break-words">{name}</span>
        {part.change != null && <span className="text-xs text-waits">{part.change}</span>}
        {isWrong(part) && <span className="text-xs text-fails">▲ mistake</span>}
        {tried !== undefined && Math.abs(taken) >= tried.came.bytes / 1000 && tried.came.bytes > 0 && (
          <span className={`num ml-auto text-xs font-normal ${taken > 0 ? "text-removed" : "text-soft"}`} title={`${taken > 0 ? "takes away" : "adds"} ${share(Math.abs(taken), tried.came.bytes)} of the bytes that come`}>
            {taken > 0 ? "−" : "+"}
            {share(Math.abs(taken), tried.came.bytes)}
          </span>
        )}
      </Link>
    </li>
  );
}

/** So many parts of a group are listed, beside those that are chosen, changed or wrong. */
const LISTED = 40;

/** The parts of a group; of very many, the first ones that are looked for, and those that always count. */
function Group({ title, of, chosen }: { title: string; of: OutlinePart[]; chosen: string | undefined }) {
  const [wanted, setWanted] = useState("");
  const isMany = of.length > LISTED;
  const found = isMany ? of.filter((p) => partOf(p.part).name.includes(wanted.trim())) : of;
  const first = new Set(found.slice(0, LISTED));
  const listed = isMany ? of.filter((p) => first.has(p) || p.part === chosen || p.change != null || isWrong(p)) : of;
  return (
    <>
      {isMany && <input value={wanted} onChange={(e) => setWanted(e.target.value)} placeholder="find by name" aria-label={`Find in ${title.toLowerCase()}`} className={`${FIELD} mx-2 mb-1 w-36 text-xs`} />}
      <ul>
        {listed.map((p) => (
          <Entry key={p.part} part={p} chosen={p.part === chosen} />
        ))}
      </ul>
      {found.length > LISTED && <p className="px-2 text-xs text-soft">and {count(found.length - LISTED)} more; find them by name</p>}
    </>
  );
}

export function Contents({ chosen }: { chosen: string | undefined }) {
  const { outline, mayChange } = useDraft();
  const parts = outline?.parts ?? [];
  return (
    <nav aria-label="Parts of the plan" className="flex flex-col gap-3 self-start">
      {GROUPS.map(({ kind, title }) => {
        const of = parts.filter((p) => partOf(p.part).kind === kind);
        const removed = (outline?.removed ?? []).filter((p) => partOf(p).kind === kind);
        if (of.length + removed.length === 0 && kind !== "route" && !(mayChange && ["recipe", "alert", "budget"].includes(kind))) return null;
        return (
          <section key={kind} aria-label={title}>
            <div className="flex items-baseline justify-between px-2">
              <h2 className="text-sm font-semibold text-soft">{title}</h2>
              {kind === "route" && mayChange && <AddRoute />}
              {kind === "recipe" && mayChange && <AddKit />}
              {kind === "alert" && mayChange && <AddAlert />}
              {kind === "budget" && mayChange && <AddBudget />}
            </div>
            <Group title={title} of={of} chosen={chosen} />
            <ul>
              {removed.map((p) => (
                <li key={p} className="px-2 py-0.5 text-sm text-removed">
                  <del>{partOf(p).name}</del>
                </li>
              ))}
            </ul>
          </section>
        );
      })}
    </nav>
  );
}
