/** The plan: one's draft of it, what it would do, the suggestions for it, and its revisions. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type ServiceError, get, send } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type PlanEdit = Schemas["PlanEdit"];
export type PlanDraft = Schemas["PlanDraft"];
export type DraftedPart = Schemas["DraftedPart"];
export type DraftConflict = Schemas["DraftConflict"];
export type PlanOutline = Schemas["PlanOutline"];
export type OutlinePart = Schemas["OutlinePart"];
export type OutlineSentence = Schemas["OutlineSentence"];
export type PlanMistake = Schemas["PlanMistake"];
export type CheckAnswer = Schemas["CheckAnswer"];
export type FirstHosts = Schemas["FirstHosts"];
export type HostChange = Schemas["HostChange"];
export type TrialAnswer = Schemas["TrialAnswer"];
export type TrialPart = Schemas["TrialPart"];
export type TrialStep = Schemas["TrialStep"];
export type TrialDestination = Schemas["TrialDestination"];
export type TriedEvent = Schemas["TriedEvent"];
export type TriedRoute = Schemas["TriedRoute"];
export type TriedPassage = Schemas["TriedPassage"];
export type CompleteAnswer = Schemas["CompleteAnswer"];
export type SentenceProposal = Schemas["SentenceProposal"];
export type Suggestion = Schemas["Suggestion"];
export type SuggestionsAnswer = Schemas["SuggestionsAnswer"];
export type ExampleTried = Schemas["ExampleTried"];
export type ExpectationTried = Schemas["ExpectationTried"];
export type RevisionEntry = Schemas["RevisionEntry"];
export type RevisionDetail = Schemas["RevisionDetail"];

const PLAN = "/api/v1/plan";
const DRAFT = [`${PLAN}/draft`];

/** One's draft, or the active plan; looked at again now and then, since it may be changed in another window. */
export function usePlanDraft() {
  return useQuery<PlanDraft, ServiceError>({ queryKey: DRAFT, queryFn: ({ signal }) => get<PlanDraft>(DRAFT[0] ?? "", signal), retry: false, refetchInterval: 5000 });
}

export type DraftChange = { edits: PlanEdit[] } | { text: string } | "discard" | { renew: "mine" | "active" | null };

/** Changes one's draft. Changes are made one after the other, each of the version that the one before made. */
export function useChangeDraft() {
  const client = useQueryClient();
  const change = async (asked: DraftChange) => {
    const version = client.getQueryData<PlanDraft>(DRAFT)?.version ?? 0;
    if (asked === "discard") return send<PlanDraft>("DELETE", `${PLAN}/draft`);
    if ("renew" in asked) return send<PlanDraft>("POST", `${PLAN}/draft/renew`, { version, ...(asked.renew && { prefer: asked.renew }) });
    return send<PlanDraft>("PUT", `${PLAN}/draft`, { version, ...asked });
  };
  return useMutation<PlanDraft, ServiceError, DraftChange>({
    mutationFn: change,
    scope: { id: "draft" },
    onSuccess: (draft) => {
      // An answer that is under way to an earlier question would show the draft as it was.
      void client.cancelQueries({ queryKey: DRAFT });
      client.setQueryData(DRAFT, draft);
    },
    onError: (e) => {
      if (e.kind === "draft-changed") void client.invalidateQueries({ queryKey: DRAFT });
    },
  });
}

/** What a plan consists of, as it is written. */
export function useOutline(text: string | undefined) {
  return useQuery<PlanOutline, ServiceError>({
    queryKey: ["outline", text],
    queryFn: ({ signal }) => send<PlanOutline>("POST", `${PLAN}/outline`, { text }, signal),
    enabled: text !== undefined,
    retry: false,
    placeholderData: (old) => old,
  });
}

export interface TrialAsked {
  text?: string;
  edits?: PlanEdit[];
  route?: string;
  source?: string;
  show?: string;
  events?: string;
  most?: number;
}

/** What a plan would do with events; asked again every half minute, for the samples go on. */
export function useTrial(asked: TrialAsked | null) {
  return useQuery<TrialAnswer, ServiceError>({
    queryKey: ["trial", JSON.stringify(asked)],
    queryFn: ({ signal }) => send<TrialAnswer>("POST", "/api/v1/trial", asked, signal),
    enabled: asked !== null,
    retry: false,
    staleTime: 20_000,
    refetchInterval: 30_000,
    placeholderData: (old) => old,
  });
}

/** What comes out of the examples of a plan; `null` is the active one. */
export function useExamples(text: string | null | undefined) {
  return useQuery<Schemas["ExamplesAnswer"], ServiceError>({
    queryKey: ["examples", text],
    queryFn: ({ signal }) => send("POST", `${PLAN}/examples`, text === null ? {} : { text }, signal),
    enabled: text !== undefined,
    retry: false,
    placeholderData: (old) => old,
  });
}

/** Makes an example of an event, as it would stand in a plan. */
export const makeExample = (asked: Schemas["ExampleRequest"]) => send<Schemas["ExampleMade"]>("POST", `${PLAN}/examples/make`, asked);

export function useMakeExample() {
  return useMutation<Schemas["ExampleMade"], ServiceError, Schemas["ExampleRequest"]>({ mutationFn: makeExample });
}

/** What applying a plan would change, and what is predicted of it. */
export function useCheck(text: string) {
  return useQuery<CheckAnswer, ServiceError>({ queryKey: ["check", text], queryFn: ({ signal }) => send<CheckAnswer>("POST", `${PLAN}/check`, { text }, signal), retry: false, staleTime: 0 });
}

/** A service that is still looking at its sample is asked again after so long, in milliseconds, and so often. */
const ASK_AGAIN = 100;
const TRIES = 20;

/** Which sort of sentence it is. */
export type SentenceKind = "step" | "condition" | "alert";

/** What may stand at the end of a sentence. */
export async function complete(kind: SentenceKind, text: string, point: string | undefined, signal?: AbortSignal): Promise<CompleteAnswer> {
  const asked = { kind, text, ...(point !== undefined && { point }), most: 40 };
  for (let tries = 1; ; tries += 1) {
    const answer = await send<CompleteAnswer>("POST", "/api/v1/complete", asked, signal);
    if (answer.partial !== true || tries === TRIES) return answer;
    await new Promise((done) => setTimeout(done, ASK_AGAIN));
  }
}

/** Applies a plan, if the revision that it was compared with is still the active one; then the draft is done with. */
interface Applying {
  text: string;
  why: string;
  expected: number;
  /** Which hosts get it first. */
  first: FirstHosts | null;
}

export function useApply() {
  const client = useQueryClient();
  const apply = async ({ text, why, expected, first }: Applying) => {
    const applied = await send<{ revision: number }>("POST", "/api/v1/revisions", { text, why, expected_revision: expected, first });
    await send<PlanDraft>("DELETE", `${PLAN}/draft`);
    return applied;
  };
  return useMutation({ mutationFn: apply, onSettled: () => client.invalidateQueries() }) as ReturnType<typeof useMutation<{ revision: number }, ServiceError, Applying>>;
}

export function useSuggestions() {
  return useQuery<SuggestionsAnswer, ServiceError>({ queryKey: ["/api/v1/suggestions"], queryFn: ({ signal }) => get<SuggestionsAnswer>("/api/v1/suggestions", signal), retry: false, staleTime: 20_000 });
}

/** Declines a suggestion. */
export function useDecline() {
  const client = useQueryClient();
  return useMutation<unknown, ServiceError, string>({
    mutationFn: (id) => send("POST", `/api/v1/suggestions/${encodeURIComponent(id)}/decline`),
    onSettled: () => client.invalidateQueries({ queryKey: ["/api/v1/suggestions"] }),
  });
}

export function useRevisions() {
  return useQuery<RevisionEntry[], ServiceError>({ queryKey: ["/api/v1/revisions"], queryFn: ({ signal }) => get<RevisionEntry[]>("/api/v1/revisions", signal), retry: false, refetchInterval: 10_000 });
}

/** A revision, and its difference from another; from the one before if none is said. */
export function useRevision(number: number | null, against?: number) {
  const path = `/api/v1/revisions/${number}${against === undefined ? "" : `?against=${against}`}`;
  return useQuery<RevisionDetail, ServiceError>({ queryKey: [path], queryFn: ({ signal }) => get<RevisionDetail>(path, signal), enabled: number !== null, retry: false, refetchInterval: 30_000, placeholderData: (old) => (old?.number === number ? old : undefined) });
}

/** Applies an earlier revision again. */
export function useRevert() {
  const client = useQueryClient();
  return useMutation<{ revision: number }, ServiceError, { number: number; why: string; expected: number }>({
    mutationFn: ({ number, why, expected }) => send("POST", `/api/v1/revisions/${number}/revert`, { why, expected_revision: expected }),
    onSettled: () => client.invalidateQueries(),
  });
}
