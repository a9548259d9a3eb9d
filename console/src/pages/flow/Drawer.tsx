/** Under the drawing: the events that pass the chosen point, live, and its last hour. */
import { useEffect } from "react";

import { Minutes } from "../../parts/Minutes";
import { Tail } from "../../parts/Tail";
import { Operate } from "./Operate";
import { Senders } from "./Senders";

export function Drawer({ point, now, close }: { point: string; now: number; close: () => void }) {
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      if (e.key === "Escape" && !e.defaultPrevented) close();
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [close]);
  const [place = "", name = ""] = point.split(":");
  const timed = place === "source" || place === "route" || place === "destination";
  const what = name === "" ? "the remainder" : `${place} ${name}`;
  return (
    <>
      <div className="h-[24rem]" aria-hidden="true" />
      <aside aria-label={`Loading ${what}`} className="fixed inset-x-0 bottom-0 z-10 border-t-2 border-petal bg-surface shadow-(--shadow)">
        <div className="mx-auto flex h-[22rem] max-w-[1880px] flex-col gap-2 px-5 py-3">
          <div className="flex items-baseline gap-3">
            <h2 className="text-lg font-semibold">{what}</h2>
            <span className="text-sm text-soft">events as they pass; removed struck through, added underlined</span>
            <button type="button" onClick={close} className="ml-auto rounded border border-line px-2.5 py-1 text-sm hover:border-line-strong">
              Close <kbd className="font-mono text-xs text-soft">Esc</kbd>
            </button>
          </div>
          {place === "destination" && <Operate key={name} name={name} />}
          {place === "source" && <Senders key={name} name={name} now={now} />}
          <div className="grid min-h-0 flex-1 grid-cols-[1fr_minmax(14rem,24rem)] gap-6 max-md:grid-cols-1">
            <div className="flex min-h-0 min-w-0 flex-col">
              <Tail key={point} point={point} what={what} />
            </div>
            {timed && <Minutes place={place} name={name} />}
          </div>
        </div>
      </aside>
    </>
  );
}
