/** Sources: connected, looked at, given keys. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, get, send } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type LookedInto = Schemas["LookedInto"];
export type SourceFile = Schemas["SourceFile"];
export type LookedKind = Schemas["LookedKind"];
export type Recognised = Schemas["Recognised"];
export type KitShown = Schemas["KitShown"];
export type SourceKey = Schemas["SourceKey"];

/** Looks into files before they are read. */
export function useLookIntoFiles() {
  return useMutation<LookedInto, ServiceError, { paths: string[]; name: string }>({ mutationFn: (asked) => send<LookedInto>("POST", "/api/v1/files/look", asked) });
}

/** What lines are, and by which kit they would be read. */
export function useRecognised(lines: string) {
  return useQuery<Recognised, ServiceError>({
    queryKey: ["recognised", lines],
    queryFn: ({ signal }) => send<Recognised>("POST", "/api/v1/kits/recognise", { lines }, signal),
    enabled: lines !== "",
    retry: false,
    staleTime: Infinity,
  });
}

export function useKits() {
  return useQuery<KitShown[], ServiceError>({ queryKey: ["/api/v1/kits"], queryFn: ({ signal }) => get<KitShown[]>("/api/v1/kits", signal), retry: false, staleTime: Infinity });
}

/** Who sends to a source. */
export function useSenders(name: string) {
  const path = `/api/v1/sources/${encodeURIComponent(name)}/senders`;
  return useQuery<Schemas["SenderList"], ServiceError>({ queryKey: [path], queryFn: ({ signal }) => get(path, signal), retry: false, refetchInterval: 3000 });
}

/** A key that nobody can guess. */
export function freshKey(): string {
  return [...crypto.getRandomValues(new Uint8Array(24))].map((b) => b.toString(16).padStart(2, "0")).join("");
}

interface Connected {
  /** The source's name. */
  name: string;
  /** It, as it stands in a plan. */
  text: string;
  /** Its key and the secret that holds it, if senders must show one. */
  key: { secret: string; value: string } | null;
}

/** Adds a source to the active plan, and applies that at once: so it begins to listen. */
export function useConnect() {
  const client = useQueryClient();
  const connect = async ({ name, text, key }: Connected) => {
    if (key !== null) await send("PUT", `/api/v1/secrets/${encodeURIComponent(key.secret)}`, { value: key.value, shown_to: [`source:${name}`] });
    const edited = await send<Schemas["EditedPlan"]>("POST", "/api/v1/plan/edit", { edits: [{ edit: "add_part", text }] });
    return send<{ revision: number }>("POST", "/api/v1/revisions", { text: edited.text, why: `connect ${name}`, expected_revision: edited.revision });
  };
  return useMutation<{ revision: number }, ServiceError, Connected>({ mutationFn: connect, onSettled: () => client.invalidateQueries() });
}

/** Makes a source a new key; the one before stops working. */
export function useNewKey(name: string) {
  const client = useQueryClient();
  return useMutation<SourceKey, ServiceError, undefined>({ mutationFn: () => send<SourceKey>("POST", `/api/v1/sources/${encodeURIComponent(name)}/key`), onSettled: () => client.invalidateQueries() });
}
