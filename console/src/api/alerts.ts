/** Alerts: how they stand, and what an operator does about them. */
import { useMutation, useQuery } from "@tanstack/react-query";

import { type ServiceError, get, send } from "./client";
import { useDone } from "./operate";
import type { components } from "./schema";

export type AlertState = components["schemas"]["AlertState"];
export type AlertNotice = components["schemas"]["AlertNotice"];
export type AlertsAnswer = components["schemas"]["AlertsAnswer"];
export type AlertPast = components["schemas"]["AlertPast"];

const ALERTS = "/api/v1/alerts";
const of = (name: string) => `${ALERTS}/${encodeURIComponent(name)}`;

export function useAlerts() {
  return useQuery<AlertsAnswer, ServiceError>({ queryKey: [ALERTS], queryFn: ({ signal }) => get<AlertsAnswer>(ALERTS, signal), refetchInterval: 2_000, retry: false });
}

/** Says that somebody has seen it. */
export function useAcknowledge(name: string) {
  return useDone(() => send<null>("POST", `${of(name)}/acknowledge`));
}

/** Tells nobody for so many minutes; of none, tells again. */
export function useSilence(name: string) {
  return useDone((minutes: number | null) => (minutes === null ? send<null>("DELETE", `${of(name)}/silence`) : send<unknown>("PUT", `${of(name)}/silence`, { minutes })));
}

/** When it would have been on in the last so many minutes. */
export function useTryAlert(alert: AlertState) {
  const { when, until, lasting_ms } = alert;
  return useMutation<AlertPast, ServiceError, number>({ mutationFn: (minutes) => send<AlertPast>("POST", `${ALERTS}/try`, { when, until: until ?? null, lasting_ms, minutes }) });
}
