/** Where did every event go? An account that adds up. */
import { ToggleGroup } from "radix-ui";
import { useState } from "react";

import { type Cost, type LedgerAnswer, useFlow, useLedger } from "../../api/client";
import { BUTTON } from "../../design/buttons";
import { csvLine } from "../../lib/csv";
import { download } from "../../lib/download";
import { count } from "../../lib/format";
import { useFrozen } from "../../lib/frozen";
import { Message } from "../../parts/Message";
import { Account } from "./Account";

const SPANS = [
  { value: "all", label: "Since the beginning", minutes: null },
  { value: "1440", label: "Last day", minutes: 1440 },
  { value: "60", label: "Last hour", minutes: 60 },
  { value: "5", label: "Last 5 minutes", minutes: 5 },
];

function Verdict({ ledger }: { ledger: LedgerAnswer }) {
  const off = ledger.equations.filter((e) => !e.holds);
  if (off.length === 0) {
    return (
      <p role="status" className="text-goes-on">
        <span className="font-semibold">✓ Balanced.</span> All {ledger.equations.length} equations hold since the beginning, to the event and to the byte.
      </p>
    );
  }
  return (
    <div role="alert" className="text-fails">
      <p className="font-semibold">✗ Not balanced.</p>
      <ul className="text-sm">
        {off.map((e) => (
          <li key={`${e.place} ${e.name} ${e.says}`}>
            {e.place} {e.name}: {e.says}: off by {count(e.left_events - e.right_events)} events and {count(e.left_bytes - e.right_bytes)} bytes
          </li>
        ))}
      </ul>
    </div>
  );
}

/** The rows as a CSV file; of what is queued for a destination with a price, what it costs. */
function csv(ledger: LedgerAnswer, prices: Map<string, Cost>): string {
  const head = csvLine(["place", "name", "via", "position", "sentence", "measure", "events", "bytes", "money", "currency"]);
  const line = (r: LedgerAnswer["rows"][number]) => {
    const price = r.place === "destination" && r.measure === "enqueued" ? prices.get(r.name) : undefined;
    const money = price === undefined ? ["", ""] : [((r.bytes / 1e9) * price.per_gb).toFixed(6), price.currency];
    return csvLine([r.place, r.name, r.via, String(r.position), r.sentence, r.measure, String(r.events), String(r.bytes), ...money]);
  };
  return head + ledger.rows.map(line).join("");
}

export function LedgerPage() {
  const { frozen } = useFrozen();
  const [span, setSpan] = useState("all");
  const { data: flow } = useFlow(true);
  const minutes = SPANS.find((s) => s.value === span)?.minutes ?? null;
  const { data: ledger, error } = useLedger(minutes, frozen);
  if (ledger === undefined) {
    return error === null ? <Message title="Loading…" /> : <Message tone="fails" title={`The ledger cannot be shown: ${error.message}.`} />;
  }
  const prices = new Map((flow?.destinations ?? []).flatMap((d) => (d.cost == null ? [] : [[d.name, d.cost] as const])));
  const names = (place: string) => [...new Set(ledger.rows.filter((r) => r.place === place).map((r) => r.name))].sort();
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-2 pb-4">
        <h1 className="text-xl font-semibold">Ledger</h1>
        <Verdict ledger={ledger} />
        {(ledger.caveats ?? []).map((caveat) => (
          <p key={caveat} className="text-sm text-waits">
            ▲ {caveat.replaceAll("`", "").replace(/^./, (c) => c.toUpperCase())}.
          </p>
        ))}
        <button type="button" className={`${BUTTON} ml-auto`} disabled={ledger.rows.length === 0} onClick={() => download("ledger.csv", "text/csv", csv(ledger, prices))}>
          Take along as CSV
        </button>
        <ToggleGroup.Root type="single" value={span} onValueChange={(v) => v !== "" && setSpan(v)} aria-label="Span of time" className="flex overflow-hidden rounded border border-line text-sm">
          {SPANS.map((s) => (
            <ToggleGroup.Item key={s.value} value={s.value} className="px-2.5 py-1 text-soft data-[state=on]:bg-petal-wash data-[state=on]:font-medium data-[state=on]:text-petal">
              {s.label}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
      </div>
      {ledger.rows.length === 0 ? (
        <Message title="Nothing was counted in this period.">{span === "all" ? "The ledger begins with the first event." : "Choose a longer span."}</Message>
      ) : (
        <div className="grid grid-cols-3 items-start gap-5 max-lg:grid-cols-1">
          {(["source", "route", "destination"] as const).map((place) => (
            <section key={place} aria-label={`${place}s`} className="flex flex-col gap-4">
              {names(place).map((name) => (
                <Account key={name} place={place} name={name} ledger={ledger} whole={span === "all"} price={place === "destination" ? prices.get(name) : undefined} />
              ))}
            </section>
          ))}
        </div>
      )}
    </>
  );
}
