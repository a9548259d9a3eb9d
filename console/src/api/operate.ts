/** What an operator does to sources and destinations. After each, whatever shows them is asked anew. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, get, send } from "./client";
import type { components } from "./schema";

export type Probe = components["schemas"]["Probe"];
export type Moved = components["schemas"]["Moved"];
export type AnswersThen = components["schemas"]["AnswersThen"];
export type Resent = components["schemas"]["Resent"];

export function useDone<T, A>(act: (asked: A) => Promise<T>) {
  const client = useQueryClient();
  return useMutation<T, ServiceError, A>({ mutationFn: act, onSettled: () => client.invalidateQueries() });
}

/** Pauses, resumes or empties a destination. */
export function useOperate(name: string) {
  return useDone((what: "pause" | "resume" | "purge") => send<Moved>("POST", `/api/v1/destinations/${encodeURIComponent(name)}/${what}`));
}

/** Pauses or resumes a source. */
export function useOperateSource(name: string) {
  return useDone((what: "pause" | "resume") => send<null>("POST", `/api/v1/sources/${encodeURIComponent(name)}/${what}`));
}

/** Looks whether a source can be sent to, or a destination takes events. */
export function useProbe(what: "sources" | "destinations", name: string) {
  return useDone<Probe, undefined>(() => send<Probe>("POST", `/api/v1/${what}/${encodeURIComponent(name)}/test`));
}

/** Sends again what destinations refused, as their present steps make of it, with steps before those that mend it. */
export function useResend(told: (sent: Resent) => void) {
  return useDone(async ({ ids, steps }: { ids: number[]; steps: string[] }) => {
    const sent = await send<Resent>("POST", "/api/v1/quarantine/resend", { ids, do: steps });
    told(sent);
    return sent;
  });
}

/** Looks whether a destination of a plan that is not applied takes events. */
export function useProbePlanned() {
  return useMutation<Probe, ServiceError, { text: string; destination: string }>({ mutationFn: (asked) => send<Probe>("POST", "/api/v1/plan/test-destination", asked) });
}

/** A destination's answers over the last day. */
export function useDay(name: string) {
  const path = `/api/v1/destinations/${encodeURIComponent(name)}/answers`;
  return useQuery<AnswersThen[], ServiceError>({ queryKey: [path], queryFn: ({ signal }) => get<AnswersThen[]>(path, signal), retry: false, refetchInterval: 15_000 });
}
