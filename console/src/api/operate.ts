/** What an operator does to destinations. After each, whatever shows them is asked anew. */
import { useMutation, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, ask } from "./client";
import type { components } from "./schema";

export type Probe = components["schemas"]["Probe"];
export type Moved = components["schemas"]["Moved"];

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

/** Looks whether a destination takes events. */
export function useProbe(name: string) {
  return useDone<Probe | null, undefined>(() => post<Probe>(`/api/v1/destinations/${encodeURIComponent(name)}/test`));
}

/** Queues again what destinations refused. */
export function useResend() {
  return useDone((ids: number[]) => post<Moved>("/api/v1/quarantine/resend", { ids }));
}
