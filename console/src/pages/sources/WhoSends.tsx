/** Who sends to a source: each address with its share, when it was heard, and whether its clock is right. */
import { useState } from "react";

import { useSenders } from "../../api/sources";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { age, bytes, count, share, utc } from "../../lib/format";
import { ageOfEvent } from "../flow/Senders";

/** So many are shown before one asks for all. */
const FIRST = 12;

function Table({ source }: { source: string }) {
  const { data: list, error } = useSenders(source);
  const [all, setAll] = useState(false);
  if (list === undefined) return <p className={error === null ? "text-soft" : "text-fails"}>{error === null ? "Loading the senders…" : `▲ The senders cannot be shown: ${error.message}.`}</p>;
  if (list.senders.length === 0) return <p className="text-soft">Nothing has come since the service began to listen.</p>;
  const shown = all ? list.senders : list.senders.slice(0, FIRST);
  const most = Math.max(...list.senders.map((s) => s.share));
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-sm">
        <caption className="sr-only">Who sends to {source}</caption>
        <thead>
          <tr className="text-left text-xs text-soft">
            <th scope="col" className="font-normal">sender</th>
            <th scope="col" className="pl-4 font-normal">share of bytes</th>
            <th scope="col" className="pl-4 text-right font-normal">events</th>
            <th scope="col" className="pl-4 text-right font-normal">bytes</th>
            <th scope="col" className="pl-4 text-right font-normal">unreadable</th>
            <th scope="col" className="pl-4 text-right font-normal">last heard</th>
            <th scope="col" className="pl-4 font-normal">clock</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((s) => (
            <tr key={s.from ?? ""} className="border-t border-line align-baseline">
              <th scope="row" className={`py-1 text-left font-normal ${s.from == null ? "" : "font-mono text-xs"}`}>
                {s.from ?? "this host"}
              </th>
              <td className="py-1 pl-4 whitespace-nowrap">
                <span aria-hidden="true" className="mr-2 inline-block h-2 w-24 rounded-sm bg-raised">
                  <span className="block h-2 rounded-sm bg-arrive" style={{ width: `${Math.max(2, (100 * s.share) / most)}%` }} />
                </span>
                <span className="num">{share(s.share, 1)}</span>
              </td>
              <td className="num py-1 pl-4 text-right">{count(s.events)}</td>
              <td className="num py-1 pl-4 text-right" title={`${count(s.bytes)} bytes`}>
                {bytes(s.bytes)}
              </td>
              <td className={`num py-1 pl-4 text-right ${s.unreadable > 0 ? "text-fails" : "text-soft"}`}>{s.unreadable === 0 ? "none" : count(s.unreadable)}</td>
              <td className="num py-1 pl-4 text-right whitespace-nowrap" title={`${utc(s.last_ms)}; first heard ${utc(s.first_ms)}`}>
                {age(list.now_ms - s.last_ms)} ago
              </td>
              <td className="py-1 pl-4">
                {s.clock != null ? (
                  <span className="text-fails">▲ {s.clock}</span>
                ) : s.freshness == null ? (
                  <span className="text-soft">no event has a time</span>
                ) : (
                  <span className="text-soft" title="the median">events arrive {ageOfEvent(s.freshness.half_ms)}</span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {list.senders.length > shown.length && (
        <button type="button" className={`${SMALL_BUTTON} mt-2`} onClick={() => setAll(true)}>
          Show all {count(list.senders.length)}
        </button>
      )}
      {list.others > 0 && (
        <p className="pt-1 text-xs text-soft">
          {count(list.other_events)} events, {bytes(list.other_bytes)}, came from {count(list.others)} others, heard earlier.
        </p>
      )}
    </div>
  );
}

export function WhoSends({ source }: { source: string }) {
  const [open, setOpen] = useState(false);
  return (
    <details open={open} onToggle={(e) => setOpen(e.currentTarget.open)} className="text-sm open:basis-full">
      <summary className={`${BUTTON} inline-block cursor-pointer`}>Who sends</summary>
      <div className="pt-2">{open && <Table source={source} />}</div>
    </details>
  );
}
