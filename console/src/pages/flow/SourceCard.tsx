import { memo } from "react";

import type { FlowSource, VolumeBefore } from "../../api/client";
import { count } from "../../lib/format";
import { ByteRate, Rate } from "../../parts/Quantity";
import { Sentence } from "../../parts/Sentence";
import { Before } from "./Before";
import { Card, Choose } from "./Card";

/** Drawn again only when what it shows has changed: there may be a thousand. */
export const SourceCard = memo(function SourceCard({ source, before, chosen, choose }: { source: FlowSource; before: VolumeBefore | undefined; chosen: boolean; choose: (point: string | null) => void }) {
  const point = `source:${source.name}`;
  return (
    <Card point={point} chosen={chosen}>
      <div className="flex items-baseline justify-between gap-2">
        <Choose point={point} chosen={chosen} choose={choose}>
          {source.name}
        </Choose>
        <Rate gauge={source.received} className="font-semibold text-arrive" />
      </div>
      <div className="flex items-baseline justify-between gap-2 text-sm text-soft">
        <span className="min-w-0 font-mono text-xs break-all" title={source.kind === "file" ? source.listen : source.keyed ? "senders must show a key" : "open to senders on this machine"}>
          {source.kind === "http" ? "" : `${source.kind} `}
          {source.listen}
          {source.keyed ? " · key" : ""}
        </span>
        <ByteRate gauge={source.received} />
      </div>
      <Before before={before} />
      {(source.state !== "flowing" || source.says !== "events flow") && (
        <p className={`mt-1 text-sm break-words ${source.state === "troubled" ? "text-fails" : "text-waits"}`}>
          <span aria-hidden="true">{source.state === "troubled" ? "▲" : source.state === "paused" ? "‖" : "○"}</span> {source.says}
        </p>
      )}
      {source.steps.map((s) => (
        <p key={s.position} className="mt-1.5 border-t border-line pt-1.5">
          <Sentence text={s.sentence} />
        </p>
      ))}
      {source.quarantined.events > 0 && (
        <p className="num mt-1.5 border-t border-line pt-1.5 text-sm text-fails">
          {count(source.quarantined.events)} unreadable, in quarantine
        </p>
      )}
    </Card>
  );
});
