/** Budgets: how much of each is used, and what an operator does about them. */
import { useQuery } from "@tanstack/react-query";

import { type ServiceError, get, send } from "./client";
import { useDone } from "./operate";
import type { components } from "./schema";

export type BudgetState = components["schemas"]["BudgetState"];
export type BudgetAct = components["schemas"]["BudgetAct"];
export type BudgetsAnswer = components["schemas"]["BudgetsAnswer"];

const BUDGETS = "/api/v1/budgets";

export function useBudgets() {
  return useQuery<BudgetsAnswer, ServiceError>({ queryKey: [BUDGETS], queryFn: ({ signal }) => get<BudgetsAnswer>(BUDGETS, signal), refetchInterval: 2_000, retry: false });
}

/** Lets nothing be done by a budget until its period is over (`true`), or lets steps act by it again. */
export function useLift(name: string) {
  return useDone((lifted: boolean) => send<unknown>(lifted ? "PUT" : "DELETE", `${BUDGETS}/${encodeURIComponent(name)}/lift`));
}
