/** What is in the streams: fields, patterns, events. */
import { useQuery } from "@tanstack/react-query";

import { type ServiceError, get } from "./client";
import type { components } from "./schema";

type Schemas = components["schemas"];
export type FieldSummary = Schemas["FieldSummary"];
export type FieldsAnswer = Schemas["FieldsAnswer"];
export type PatternSummary = Schemas["PatternSummary"];
export type PatternsAnswer = Schemas["PatternsAnswer"];
export type SampleAnswer = Schemas["SampleAnswer"];
export type SampledEvent = Schemas["SampledEvent"];

/** Where events are looked at, and which of them. */
export interface Looked {
  point: string;
  when: string;
  /** Of a route: as they leave its steps, and not as it takes them. */
  leaving?: boolean;
}

function query({ point, when, leaving = false }: Looked, more: Record<string, string> = {}): string {
  return new URLSearchParams({ point, ...(when !== "" && { when }), ...(leaving && { leaving: "true" }), ...more }).toString();
}

function useLook<T>(what: string, looked: Looked, more: Record<string, string>, every: number | false, wanted: boolean) {
  const path = `/api/v1/${what}?${query(looked, more)}`;
  return useQuery<T, ServiceError>({
    queryKey: [path],
    queryFn: ({ signal }) => get<T>(path, signal),
    enabled: wanted && looked.point !== "",
    retry: false,
    staleTime: 5000,
    refetchInterval: every,
    placeholderData: (old) => old,
  });
}

export const useFields = (looked: Looked, every: number | false = false, wanted = true) => useLook<FieldsAnswer>("fields", looked, {}, every, wanted);
export const usePatterns = (looked: Looked, minutes: number, every: number | false = false, wanted = true) => useLook<PatternsAnswer>("patterns", looked, { minutes: String(minutes) }, every, wanted);
export const useSample = (looked: Looked, most: number, every: number | false = false, wanted = true) => useLook<SampleAnswer>("sample", looked, { most: String(most) }, every, wanted);
