/** What an operator does to sources and destinations. After each, whatever shows them is asked anew. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, ask } from "./client";
import type { components } from "./schema";

export type Probe = components["schemas"]["Probe"];
export type Moved = components["schemas"]["Moved"];
export type AnswersThen = components["schemas"]["AnswersThen"];
export type Resent = components["schemas"]["Resent"];

async function post<T>(path: string, body?: unknown): Promise<T | null> {
  const json = body === undefined ? {} : { headers: { "content-type": "application/json" }, body: JSON.stringify(body) };
  const response = await ask(path, { method: "POST", ...json });
  return response.status === 204 ? null : ((await response.json()) as T);
}

function useDone<T, A>(act: (asked: A) => Promise<T>) {
  const client = useQueryClient();
  return useMutation<T, ServiceError, A>({ mutationFn: act, onSettled: () => client.invalidateQueries() });
}

/** Pauses, resumes or empties a destination. */
export function useOperate(name: string) {
  return useDone((what: "pause" | "resume" | "purge") => post<Moved>(`/api/v1/destinations/${encodeURIComponent(name)}/${what}`));
}

/** Pauses or resumes a source. */
export function useOperateSource(name: string) {
  return useDone((what: "pause" | "resume") => post<null>(`/api/v1/sources/${encodeURIComponent(name)}/${what}`));
}

/** Looks whether a source can be sent to, or a destination takes events. */
export function useProbe(what: "sources" | "destinations", name: string) {
  return useDone<Probe | null, undefined>(() => post<Probe>(`/api/v1/${what}/${encodeURIComponent(name)}/test`));
}

/** Sends again what destinations refused, as their present steps make of it, with steps before those that mend it. */
export function useResend(told: (sent: Resent) => void) {
  return useDone(async ({ ids, steps }: { ids: number[]; steps: string[] }) => {
    const sent = await post<Resent>("/api/v1/quarantine/resend", { ids, do: steps });
    if (sent !== null) told(sent);
    return sent;
  });
}

/** Looks whether a destination of a plan that is not applied takes events. */
export function useProbePlanned() {
  return useMutation<Probe, ServiceError, { text: string; destination: string }>({ mutationFn: async (asked) => (await post<Probe>("/api/v1/plan/test-destination", asked)) as Probe });
}

/** A destination's answers over the last day. */
export function useDay(name: string) {
  const path = `/api/v1/destinations/${encodeURIComponent(name)}/answers`;
  return useQuery<AnswersThen[], ServiceError>({ queryKey: [path], queryFn: async ({ signal }) => (await (await ask(path, { signal })).json()) as AnswersThen[], retry: false, refetchInterval: 15_000 });
}
