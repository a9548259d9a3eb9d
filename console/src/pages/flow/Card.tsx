/** A card of the flow: its head chooses it; bands find it by its point. */
import type { ReactNode } from "react";

export function Card({ point, chosen, children, className = "" }: { point: string; chosen: boolean; children: ReactNode; className?: string }) {
  return (
    <article data-point={point} className={`card p-3 ${chosen ? "border-petal shadow-(--shadow)" : ""} ${className}`}>
      {children}
    </article>
  );
}

export function Choose({ point, chosen, choose, children }: { point: string; chosen: boolean; choose: (point: string | null) => void; children: ReactNode }) {
  return (
    <button
      type="button"
      aria-pressed={chosen}
      aria-label={`Show ${point.replace(":", " ")}`}
      onClick={() => choose(chosen ? null : point)}
      className="min-w-0 text-left font-semibold break-words hover:text-petal aria-pressed:text-petal"
    >
      {children}
    </button>
  );
}
