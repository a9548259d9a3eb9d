/** A route in one line: what comes, what goes on, what its steps take away. It is opened in place. */
import { Link } from "@tanstack/react-router";
import { memo, useState } from "react";

import type { FlowRoute, VolumeBefore } from "../../api/client";
import { shareNow } from "../../lib/format";
import { Rate } from "../../parts/Quantity";
import { Before } from "./Before";
import { RouteCard } from "./RouteCard";

/** Drawn again only when what it shows has changed: there may be a thousand. */
export const RouteLine = memo(function RouteLine({ route, before, chosen, choose }: { route: FlowRoute; before: VolumeBefore | undefined; chosen: boolean; choose: (point: string | null) => void }) {
  const [open, setOpen] = useState(false);
  const { taken, out } = route;
  const left = taken.bytes_per_second > 0 ? Math.min(1, out.bytes_per_second / taken.bytes_per_second) : 1;
  return (
    <div>
      <div className="flex items-baseline gap-2">
        <button type="button" aria-expanded={open} aria-label={`${open ? "Fold" : "Unfold"} ${route.name}`} onClick={() => setOpen(!open)} className="text-soft hover:text-ink">
          {open ? "▾" : "▸"}
        </button>
        {!open && (
          <article data-point={`route:${route.name}`} className={`card grid min-w-0 flex-1 grid-cols-[minmax(0,1fr)_auto_auto_5rem] items-baseline gap-3 px-2.5 py-0.5 ${chosen ? "border-petal" : ""}`}>
            <Link to="/routes/$name" params={{ name: route.name }} className="truncate text-sm font-semibold hover:text-petal hover:underline">
              {route.name}
            </Link>
            <span className="num text-sm">
              <Rate gauge={taken} className="text-arrive" /> <span className="text-soft">→</span> <Rate gauge={out} className="font-semibold text-goes-on" />
            </span>
            <span className="text-xs text-soft max-lg:hidden">
              <Before before={before} brief />
            </span>
            <span className="flex items-center justify-end gap-1.5" title={left < 1 ? `takes away ${shareNow({ ...taken, bytes_per_second: taken.bytes_per_second - out.bytes_per_second }, taken, "bytes_per_second")} of the bytes` : "takes no bytes away now"}>
              {left < 1 && <span aria-hidden="true" className="inline-block h-2.5 hatch" style={{ width: `${36 * (1 - left)}px` }} />}
              <span className="num text-xs text-removed">{left < 1 ? `−${Math.round(100 * (1 - left))} %` : ""}</span>
            </span>
          </article>
        )}
        {open && (
          <div className="min-w-0 flex-1">
            <RouteCard route={route} before={before} chosen={chosen} choose={choose} />
          </div>
        )}
      </div>
    </div>
  );
});
