/** How numbers and times are written: the same units everywhere, the exact value left to titles. */

import type { Gauge } from "../api/client";

const THIN = "\u202f";

/** A whole number with thin spaces between thousands. */
export function count(n: number): string {
  const sign = n < 0 ? "−" : "";
  return sign + Math.abs(Math.round(n)).toString().replace(/\B(?=(\d{3})+(?!\d))/g, THIN);
}

/** So many events, in words. */
export const events = (n: number) => (n === 1 ? "1 event" : `${count(n)} events`);

/** Bytes in the unit that suits them. */
export function bytes(n: number): string {
  const sign = n < 0 ? "−" : "";
  let value = Math.abs(n);
  if (value < 1000) return `${sign}${Math.round(value)} B`;
  for (const unit of ["kB", "MB", "GB", "TB"]) {
    value /= 1000;
    if (value < 999.95 || unit === "TB") return `${sign}${value.toFixed(1)} ${unit}`;
  }
  return "";
}

/** Events a second. */
export function rate(n: number): string {
  if (n >= 1000) return `${(n / 1000).toFixed(1)} k/s`;
  if (n >= 9.95 || n === 0) return `${Math.round(n)}/s`;
  return `${n.toFixed(1)}/s`;
}

/** A span of milliseconds, in the unit that suits it. */
export function age(ms: number): string {
  const s = Math.max(0, Math.floor(ms / 1000));
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

/** A share of 1, with as many digits as say something. */
export function share(part: number, whole: number): string {
  if (whole <= 0) return "";
  const percent = (100 * part) / whole;
  if (percent === 0) return "0 %";
  if (percent < 0.1) return "< 0.1 %";
  return `${percent < 10 ? percent.toFixed(1) : Math.round(percent)} %`;
}

/** How much of one gauge another is over the last seconds, for which rates are taken; nothing while nothing passes. */
export function shareNow(part: Gauge, whole: Gauge, of: "events_per_second" | "bytes_per_second" = "events_per_second"): string {
  return share(part[of], whole[of]);
}

/** Money; less than a hundredth is said to be that. */
export function money(amount: number, currency: string): string {
  const written = new Intl.NumberFormat(undefined, { style: "currency", currency }).format(amount > 0 ? Math.max(amount, 0.01) : amount);
  return amount > 0 && amount < 0.01 ? `< ${written}` : written;
}

/** A moment in local time, seconds shown. */
export function clock(ms: number): string {
  return new Date(ms).toLocaleTimeString(undefined, { hour12: false });
}

/** The same moment, exact and in UTC, for titles. */
export function utc(ms: number): string {
  return `${new Date(ms).toISOString()} (UTC)`;
}
