/** Who may come in, what each may see and do, and what was done. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, ask } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Me = Schemas["Me"];
export type Person = Schemas["Person"];
export type Token = Schemas["Token"];
export type Session = Schemas["Session"];
export type Role = Schemas["Role"];
export type JournalEntry = Schemas["JournalEntry"];
export type JournalCheck = Schemas["JournalCheck"];

function useList<T>(path: string, wanted = true) {
  const queryFn = async ({ signal }: { signal: AbortSignal }) => (await (await ask(path, { signal })).json()) as T;
  return useQuery<T, ServiceError>({ queryKey: [path], queryFn, enabled: wanted, retry: false, refetchInterval: 10_000, placeholderData: (old) => old });
}

export const useMe = () => useList<Me>("/api/v1/me");
export const usePeople = (wanted: boolean) => useList<Person[]>("/api/v1/people", wanted);
export const useTokens = (wanted: boolean) => useList<Token[]>("/api/v1/tokens", wanted);
export const useSessions = () => useList<Session[]>("/api/v1/sessions");
export const useJournal = (wanted: boolean) => useList<JournalEntry[]>("/api/v1/journal?most=50", wanted);
export const useJournalCheck = (wanted: boolean) => useList<JournalCheck>("/api/v1/journal/check", wanted);
export const useRoles = (team: string) => useList<Role[]>(`/api/v1/roles?team=${encodeURIComponent(team)}`);

export interface Change {
  method: "POST" | "PUT" | "DELETE";
  path: string;
  body?: unknown;
}

/** Changes something of it; whatever shows it is asked anew. */
export function useChange<T = null>(then?: (answer: T | null) => void) {
  const client = useQueryClient();
  const act = async ({ method, path, body }: Change) => {
    const json = body === undefined ? {} : { headers: { "content-type": "application/json" }, body: JSON.stringify(body) };
    const response = await ask(path, { method, ...json });
    return response.status === 204 ? null : ((await response.json()) as T);
  };
  return useMutation<T | null, ServiceError, Change>({ mutationFn: act, onSuccess: (answer) => then?.(answer), onSettled: () => client.invalidateQueries() });
}
