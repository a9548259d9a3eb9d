/** Numbers with units; the exact value is in the title, for pointer and screen reader alike. */
import type { Gauge } from "../api/client";
import { bytes, count, rate } from "../lib/format";

export function Rate({ gauge, className = "" }: { gauge: Gauge; className?: string }) {
  return (
    <span className={`num ${className}`} title={`${gauge.events_per_second.toFixed(2)} events/s; ${count(gauge.events)} since the start`}>
      {rate(gauge.events_per_second)}
    </span>
  );
}

export function ByteRate({ gauge, className = "" }: { gauge: Gauge; className?: string }) {
  return (
    <span className={`num ${className}`} title={`${gauge.bytes_per_second.toFixed(0)} bytes/s; ${count(gauge.bytes)} bytes since the start`}>
      {bytes(gauge.bytes_per_second)}/s
    </span>
  );
}

export function Count({ value, className = "" }: { value: number; className?: string }) {
  return <span className={`num ${className}`}>{count(value)}</span>;
}
