/** Live tail of one point, newest first, bounded. */
import { useEffect, useRef, useState } from "react";

export type TailEvent = { id: number; at_ms: number; before: unknown; after: unknown; removed_by: string | null; held_by: string | null };

/** Most events that are kept on the page, if nothing else is said. */
const KEEP = 60;
/** How often the page takes in what arrived, in milliseconds. */
const SETTLE = 400;

export type Mistake = { column: number; length: number; message: string; expected: string | null; nearest: string | null };

/** Why a stream cannot be opened: in the service's words, and where in the condition. */
export type Refused = { says: string; mistake: Mistake | null };

export type Tail = { events: TailEvent[]; skipped: number; /** The grants under which some events are shown here; null if all are. */ grants: string[] | null; state: "opening" | "open" | "broken"; refused: Refused | null };

const NOTHING: Tail = { events: [], skipped: 0, grants: null, state: "opening", refused: null };

/** Asks for the stream once more, for the answer's body: an event source shows none. */
async function whyRefused(path: string): Promise<Refused | null> {
  const end = new AbortController();
  try {
    const response = await fetch(path, { signal: end.signal });
    if (response.ok) return null;
    const problem = (await response.json()) as { detail?: string; mistakes?: Mistake[] };
    return { says: problem.detail ?? "", mistake: problem.mistakes?.[0] ?? null };
  } catch {
    return { says: "the service does not answer", mistake: null };
  } finally {
    end.abort();
  }
}

export function useTail(point: string, when: string, frozen: boolean, keep = KEEP): Tail {
  const [tail, setTail] = useState<Tail>(NOTHING);
  const frozenNow = useRef(frozen);
  useEffect(() => {
    frozenNow.current = frozen;
  }, [frozen]);
  useEffect(() => {
    let next = 0;
    let arrived: TailEvent[] = [];
    let skipped = 0;
    let grants: string[] | null = null;
    let state: Tail["state"] = "opening";
    let refused: Refused | null = null;
    let ended = false;
    const query = new URLSearchParams({ point });
    if (when.trim() !== "") query.set("when", when);
    const path = `/api/v1/tail?${query}`;
    const stream = new EventSource(path);
    stream.onopen = () => {
      state = "open";
    };
    stream.onerror = () => {
      state = stream.readyState === EventSource.CLOSED ? "broken" : "opening";
      if (state === "broken")
        void whyRefused(path).then((why) => {
          if (!ended) refused = why;
        });
    };
    stream.addEventListener("event", (message) => {
      const shown = JSON.parse((message as MessageEvent<string>).data) as Omit<TailEvent, "id">;
      arrived = [{ ...shown, id: next++ }, ...arrived].slice(0, keep);
    });
    stream.addEventListener("skipped", (message) => {
      skipped += Number((message as MessageEvent<string>).data);
    });
    stream.addEventListener("grants", (message) => {
      grants = JSON.parse((message as MessageEvent<string>).data) as string[] | null;
    });
    const settle = setInterval(() => {
      if (frozenNow.current) return;
      const fresh = arrived;
      arrived = [];
      setTail((old) => {
        if (fresh.length === 0 && old.skipped === skipped && old.grants === grants && old.state === state && old.refused === refused) return old;
        return { events: [...fresh, ...old.events].slice(0, keep), skipped, grants, state, refused };
      });
    }, SETTLE);
    return () => {
      ended = true;
      clearInterval(settle);
      stream.close();
      setTail(NOTHING);
    };
  }, [point, when, keep]);
  return tail;
}
