/** Who may come in, what each may see and do, and what was done. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, get, send } from "./client";
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
  return useQuery<T, ServiceError>({ queryKey: [path], queryFn: ({ signal }) => get<T>(path, signal), enabled: wanted, retry: false, refetchInterval: 10_000, placeholderData: (old) => old });
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
  return useMutation<T | null, ServiceError, Change>({ mutationFn: ({ method, path, body }) => send<T | null>(method, path, body), onSuccess: (answer) => then?.(answer), onSettled: () => client.invalidateQueries() });
}
