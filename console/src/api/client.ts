/** Asks the service. Types come from its OpenAPI document, so that the two cannot drift. */
import { useQuery } from "@tanstack/react-query";

import type { components } from "./schema";

type Schemas = components["schemas"];
export type Flow = Schemas["Flow"];
export type FlowSource = Schemas["FlowSource"];
export type FlowRoute = Schemas["FlowRoute"];
export type FlowStep = Schemas["FlowStep"];
export type FlowDestination = Schemas["FlowDestination"];
export type Source = Schemas["Source"];
export type CaughtRecord = Schemas["CaughtRecord"];
export type Volume = Schemas["Volume"];
export type VolumeBefore = Schemas["VolumeBefore"];
export type FirstPlan = Schemas["FirstPlan"];
export type DestinationCost = Schemas["DestinationCost"];
export type Gauge = Schemas["Gauge"];
export type Status = Schemas["Status"];
export type EventAges = Schemas["EventAges"];
export type LedgerAnswer = Schemas["LedgerAnswer"];
export type LedgerByTag = Schemas["LedgerByTag"];
export type TagShare = Schemas["TagShare"];
export type LedgerEntry = Schemas["LedgerEntry"];
export type LedgerMinute = Schemas["LedgerMinute"];
export type WhyAnswer = Schemas["Why"];
export type WhyPassage = Schemas["Passage"];
export type RouteDecision = Schemas["RouteDecision"];
export type QuarantineEntry = Schemas["QuarantineEntry"];
export type QuarantineWhy = Schemas["QuarantineWhy"];
export type ResentEvent = Schemas["ResentEvent"];

type Problem = Partial<Schemas["Problem"]>;

/** What the service refused, in its own words. */
export class ServiceError extends Error {
  constructor(
    readonly status: number,
    message: string,
    /** All that the service said of it. */
    readonly problem: Problem = {},
  ) {
    super(message);
  }

  /** The last word of the problem's type, such as `bad-plan`. */
  get kind(): string {
    return this.problem.type?.split(/[/:]/).at(-1) ?? "";
  }
}

/** Asks for a path; what the service refuses is thrown in its own words. */
export async function ask(path: string, init: RequestInit = {}): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(path, { ...init, headers: { accept: "application/json", ...init.headers } });
  } catch (e) {
    if (init.signal?.aborted) throw e;
    throw new ServiceError(0, "the service does not answer");
  }
  if (!response.ok) {
    const problem = (await response.json().catch(() => ({}))) as Problem;
    // In a sentence of the page, names stand without the marks that they have in the terminal.
    throw new ServiceError(response.status, problem.detail?.replaceAll("`", "") ?? `the service responded with ${response.status}`, problem);
  }
  return response;
}

export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  return (await (await ask(path, { signal })).json()) as T;
}

/** Sends something, and reads the answer; of one without a body, nothing. */
export async function send<T>(method: "POST" | "PUT" | "DELETE", path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  const json = body === undefined ? {} : { headers: { "content-type": "application/json" }, body: JSON.stringify(body) };
  const response = await ask(path, { method, ...json, ...(signal && { signal }) });
  return (response.status === 204 ? null : await response.json()) as T;
}

/** `every`: after how many milliseconds it is asked again, which may depend on the answer. */
function useAnswer<T>(path: string, every: number | false | ((answer: T | undefined) => number | false)) {
  const refetchInterval = typeof every === "function" ? (query: { state: { data: T | undefined } }) => every(query.state.data) : every;
  return useQuery<T, ServiceError>({ queryKey: [path], queryFn: ({ signal }) => get<T>(path, signal), refetchInterval, retry: false, placeholderData: (old) => old });
}

/** What passes through the plan, once a second unless frozen. */
export function useFlow(frozen: boolean) {
  return useAnswer<Flow>("/api/v1/flow", frozen ? false : 1000);
}

/** What passed in the last hour beside the same hour before, by point; it changes once a minute. */
export function useBefore() {
  return useAnswer<Schemas["FlowBefore"]>("/api/v1/flow/before", 30_000);
}

/** A plan to start from, with a source and a destination of these kinds. */
export function useFirstPlan(from: string, to: string) {
  return useAnswer<FirstPlan>(`/api/v1/plan/first?from=${from}&to=${to}`, false);
}

/** What the sources have heard. */
export function useSources() {
  return useAnswer<Source[]>("/api/v1/sources", 3000);
}

export function useStatus() {
  return useAnswer<Status>("/api/v1/status", 3000);
}

/** An account of more rows than this is long: it takes a while to make and to read. */
const LONG_ROWS = 4_000;

/** After how many milliseconds the account is asked for again: seldom, if it is long. */
export const ledgerAge = (answer: LedgerAnswer | undefined) => ((answer?.rows.length ?? 0) > LONG_ROWS ? 20_000 : 2_000);

/** The account, of a span of time: `minutes=…`, `from_ms=…&to_ms=…`, or nothing, since the beginning. */
export function useLedger(span: string, frozen: boolean) {
  return useAnswer<LedgerAnswer>(span === "" ? "/api/v1/ledger" : `/api/v1/ledger?${span}`, frozen ? false : ledgerAge);
}

/** The account by the values of a tag, of the same span. */
export function useByTag(tag: string, span: string) {
  return useAnswer<LedgerByTag>(`/api/v1/ledger/by-tag?tag=${encodeURIComponent(tag)}${span === "" ? "" : `&${span}`}`, 5000);
}

export function useMinutes(place: string, name: string) {
  return useAnswer<LedgerMinute[]>(`/api/v1/ledger/minutes?place=${place}&name=${encodeURIComponent(name)}&minutes=60`, 5000);
}

export function useQuarantine() {
  return useAnswer<QuarantineEntry[]>("/api/v1/quarantine?most=300", 5000);
}

/** Why an event is in quarantine, and what its destination's steps would make of it now. */
export function useQuarantineWhy(id: number) {
  return useQuery<QuarantineWhy, ServiceError>({ queryKey: ["quarantine-why", id], queryFn: ({ signal }) => get<QuarantineWhy>(`/api/v1/quarantine/${id}/why`, signal), retry: false, staleTime: 0 });
}

/** What became of the events of one request to send again, once a second until it is known of all. */
export function useResent(run: number) {
  return useQuery<ResentEvent[], ServiceError>({
    queryKey: ["resent", run],
    queryFn: ({ signal }) => get<ResentEvent[]>(`/api/v1/quarantine/resent/${run}`, signal),
    retry: false,
    refetchInterval: (query) => (query.state.data?.every((e) => e.state !== "waiting") === true ? false : 1000),
  });
}

/** Why an event of a source goes where it goes. */
export function useWhy(source: string, event: string) {
  return useQuery<WhyAnswer, ServiceError>({
    queryKey: ["why", source, event],
    queryFn: ({ signal }) => send<WhyAnswer>("POST", "/api/v1/why", { source, event }, signal),
    retry: false,
    staleTime: 0,
  });
}

/** The next records that come to a source, as they come and as they are read. */
export function useNext(source: string, events: number, seconds: number) {
  return useQuery<CaughtRecord[], ServiceError>({
    queryKey: ["next", source],
    queryFn: ({ signal }) => get<CaughtRecord[]>(`/api/v1/sources/${encodeURIComponent(source)}/next?events=${events}&wait=${seconds}`, signal),
    retry: false,
    staleTime: Infinity,
    gcTime: 0,
    refetchOnWindowFocus: false,
  });
}

/** Signs this browser in by a link's code, or by a name and a password. */
export async function signIn(by: { code: string } | { name: string; password: string }): Promise<void> {
  await send("POST", "/sign-in", by);
}

/** How one can sign in, besides by a link or with a password. */
export function useSignInWays() {
  return useAnswer<{ openid?: string | null }>("/sign-in/ways", false);
}

export async function signOut(): Promise<void> {
  await fetch("/sign-out", { method: "POST" });
}
