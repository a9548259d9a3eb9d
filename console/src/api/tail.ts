/** Live tail of one point, newest first, bounded. */
import { useEffect, useRef, useState } from "react";

export type TailEvent = { id: number; at_ms: number; before: unknown; after: unknown; removed_by: string | null; held_by: string | null };

/** Most events that are kept on the page. */
const KEEP = 60;
/** How often the page takes in what arrived, in milliseconds. */
const SETTLE = 400;

export type Tail = { events: TailEvent[]; skipped: number; state: "opening" | "open" | "broken" };

export function useTail(point: string, when: string, frozen: boolean): Tail {
  const [tail, setTail] = useState<Tail>({ events: [], skipped: 0, state: "opening" });
  const frozenNow = useRef(frozen);
  useEffect(() => {
    frozenNow.current = frozen;
  }, [frozen]);
  useEffect(() => {
    let next = 0;
    let arrived: TailEvent[] = [];
    let skipped = 0;
    let state: Tail["state"] = "opening";
    const query = new URLSearchParams({ point });
    if (when.trim() !== "") query.set("when", when);
    const stream = new EventSource(`/api/v1/tail?${query}`);
    stream.onopen = () => {
      state = "open";
    };
    stream.onerror = () => {
      state = stream.readyState === EventSource.CLOSED ? "broken" : "opening";
    };
    stream.addEventListener("event", (message) => {
      const shown = JSON.parse((message as MessageEvent<string>).data) as Omit<TailEvent, "id">;
      arrived = [{ ...shown, id: next++ }, ...arrived].slice(0, KEEP);
    });
    stream.addEventListener("skipped", (message) => {
      skipped += Number((message as MessageEvent<string>).data);
    });
    const settle = setInterval(() => {
      if (frozenNow.current) return;
      const fresh = arrived;
      arrived = [];
      setTail((old) => {
        if (fresh.length === 0 && old.skipped === skipped && old.state === state) return old;
        return { events: [...fresh, ...old.events].slice(0, KEEP), skipped, state };
      });
    }, SETTLE);
    return () => {
      clearInterval(settle);
      stream.close();
      setTail({ events: [], skipped: 0, state: "opening" });
    };
  }, [point, when]);
  return tail;
}
