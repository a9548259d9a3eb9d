import { Link } from "@tanstack/react-router";
import { memo } from "react";

import type { FlowRoute, VolumeBefore } from "../../api/client";
import { ByteRate, Rate } from "../../parts/Quantity";
import { Sentence } from "../../parts/Sentence";
import { Step } from "../../parts/Step";
import { Before } from "./Before";
import { Card, Choose } from "./Card";

/** Drawn again only when what it shows has changed: there may be a thousand. */
export const RouteCard = memo(function RouteCard({ route, before, chosen, choose }: { route: FlowRoute; before: VolumeBefore | undefined; chosen: boolean; choose: (point: string | null) => void }) {
  const point = `route:${route.name}`;
  return (
    <Card point={point} chosen={chosen}>
      <div className="flex items-baseline gap-2">
        <Choose point={point} chosen={chosen} choose={choose}>
          {route.name}
        </Choose>
        <Link to="/routes/$name" params={{ name: route.name }} aria-label={`Open route ${route.name}`} className="text-sm text-petal underline">
          open
        </Link>
        <span className="num ml-auto whitespace-nowrap">
          <Rate gauge={route.taken} className="text-arrive" /> <span className="text-soft">→</span> <Rate gauge={route.out} className="font-semibold text-goes-on" />
        </span>
      </div>
      <div className="flex items-baseline justify-between gap-3 pb-1.5 text-soft">
        <Sentence text={route.when === "" ? "every event" : route.when === "remainder" ? "the remainder" : `when ${route.when}`} />
        <span className="num text-sm">
          <ByteRate gauge={route.taken} /> → <ByteRate gauge={route.out} />
        </span>
      </div>
      <Before before={before} />
      <ol>
        {route.steps.map((s) => (
          <Step key={s.position} step={s} taken={route.taken} />
        ))}
      </ol>
    </Card>
  );
});
