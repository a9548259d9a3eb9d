/** Agents: which hosts are heard, what each collects, and codes with which more enrol. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, get, send } from "./client";
import { useDone } from "./operate";
import type { components } from "./schema";

export type AgentState = components["schemas"]["AgentState"];
export type AgentDetail = components["schemas"]["AgentDetail"];
export type AgentsAnswer = components["schemas"]["AgentsAnswer"];
export type AgentStage = components["schemas"]["AgentStage"];
export type AgentUpdate = components["schemas"]["AgentUpdate"];
export type AgentLooked = components["schemas"]["AgentLooked"];
export type MadeEnrolCode = components["schemas"]["MadeEnrolCode"];
export type NewEnrolCode = components["schemas"]["NewEnrolCode"];

const AGENTS = "/api/v1/agents";

export function useAgents() {
  return useQuery<AgentsAnswer, ServiceError>({ queryKey: [AGENTS], queryFn: ({ signal }) => get<AgentsAnswer>(AGENTS, signal), refetchInterval: 2_000, retry: false });
}

/** All that is known of one. */
export function useAgent(name: string) {
  const path = `${AGENTS}/${encodeURIComponent(name)}`;
  return useQuery<AgentDetail, ServiceError>({ queryKey: [path], queryFn: ({ signal }) => get<AgentDetail>(path, signal), refetchInterval: 2_000, retry: false });
}

/** Makes a code with which hosts enrol. */
export function useMakeCode() {
  return useMutation<MadeEnrolCode, ServiceError, NewEnrolCode>({ mutationFn: (asked) => send<MadeEnrolCode>("POST", "/api/v1/enrol-codes", asked) });
}

/** Asks its agent which files there are on a host. */
export function useLookOnAgent(name: string) {
  return useMutation<AgentLooked, ServiceError, components["schemas"]["AgentLook"]>({ mutationFn: (asked) => send<AgentLooked>("POST", `${AGENTS}/${encodeURIComponent(name)}/look`, asked) });
}

/** Moves the change that goes to some hosts first. */
export function useMoveStage() {
  return useDone((asked: components["schemas"]["StageRequest"]) => send<null>("POST", "/api/v1/agent-stage", asked));
}

/** What is done to agents at a path, after a look at what it would do. */
function useLookFirst<Asked extends object, Answer>(path: string) {
  const client = useQueryClient();
  const ask = (asked: Asked, dry: boolean) => send<Answer>("POST", path, { ...asked, dry });
  const look = useMutation<Answer, ServiceError, Asked>({ mutationFn: (asked) => ask(asked, true) });
  const act = useMutation<Answer, ServiceError, Asked>({ mutationFn: (asked) => ask(asked, false), onSuccess: () => client.invalidateQueries() });
  const reset = () => {
    look.reset();
    act.reset();
  };
  return { look, act, reset, error: look.error ?? act.error };
}

/** Puts agents into a group, and gives them labels. */
export function useSetAgents() {
  return useLookFirst<Omit<components["schemas"]["SetAgents"], "dry">, components["schemas"]["AgentsSet"]>(AGENTS);
}

/** Gives agents the program of this service. */
export function useUpdateAgents() {
  return useLookFirst<Omit<components["schemas"]["UpdateAgents"], "dry">, components["schemas"]["UpdatedAgents"]>("/api/v1/agent-update");
}

/** Gives no further agent the program of this service. */
export function useStopUpdate() {
  return useDone(() => send<null>("DELETE", "/api/v1/agent-update"));
}

/** Forgets one. */
export function useRetire(name: string) {
  return useDone(() => send<null>("DELETE", `${AGENTS}/${encodeURIComponent(name)}`));
}
