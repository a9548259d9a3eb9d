/** What the parts of the Plan page share: the draft, and how it is changed. */
import { createContext, useContext } from "react";

import type { DraftChange, PlanDraft, PlanEdit, PlanOutline, TrialAnswer } from "../../api/plan";

export interface DraftContext {
  draft: PlanDraft;
  outline: PlanOutline | undefined;
  /** What it does with the samples, if it can be tried. */
  trial: TrialAnswer | undefined;
  /** Whether one may change it. */
  mayChange: boolean;
  change: (asked: DraftChange) => void;
  edit: (...edits: PlanEdit[]) => void;
}

export const Draft = createContext<DraftContext | null>(null);

export function useDraft(): DraftContext {
  const context = useContext(Draft);
  if (context === null) throw new Error("there is no draft here");
  return context;
}

/** A list of names as it stands in a plan. */
export const listed = (names: string[]) => `[${names.map((name) => JSON.stringify(name)).join(", ")}]`;

/** A sentence as the value of a key: as it is, where that can be. */
export const literalOf = (sentence: string) => (sentence.includes("'") || /[\u0000-\u001f]/.test(sentence) ? JSON.stringify(sentence) : `'${sentence}'`);

export const partOf = (point: string) => ({ kind: point.slice(0, point.indexOf(":")), name: point.slice(point.indexOf(":") + 1) });
