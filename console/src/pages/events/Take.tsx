/** What is shown, taken along: as a link, a client command, JSON lines or CSV. */
import { DropdownMenu } from "radix-ui";
import { useState } from "react";

import type { Looked } from "../../api/survey";
import { BUTTON } from "../../design/buttons";
import { ITEM, MENU } from "../../design/menu";
import { csvLine } from "../../lib/csv";
import { download } from "../../lib/download";
import { messageOf, shellQuoted, shown, valueOf } from "../../lib/events";
import type { Row } from "./EventList";
import type { Column, View } from "./looked";

/** The client's command for what is shown. */
function command({ point, when, leaving = false }: Looked, view: View): string {
  const more = leaving ? " --leaving" : "";
  if (view === "patterns") return `rockrose patterns ${shellQuoted(point)}${when === "" ? "" : ` --when ${shellQuoted(when)}`}${more}`;
  return (when === "" ? `rockrose fields ${shellQuoted(point)}` : `rockrose match ${shellQuoted(when)} --on ${shellQuoted(point)}`) + more;
}

export function Take({ looked, view, rows, columns }: { looked: Looked; view: View; rows: Row[]; columns: Column[] }) {
  const [done, setDone] = useState("");
  const copy = (what: string, text: string) => void navigator.clipboard.writeText(text).then(() => setDone(`${what} was copied`), () => setDone(text));
  const jsonLines = () => rows.map((r) => `${JSON.stringify(r.event)}\n`).join("");
  const csv = () =>
    csvLine(["time", "source", "stands for", "message", ...columns.map((c) => c.name)]) +
    rows.map((r) => csvLine([new Date(r.at_ms).toISOString(), r.source ?? "", String(r.stands_for), messageOf(r.event) ?? "", ...columns.map((c) => shown(valueOf(r.event, c.name)))])).join("");
  return (
    <span className="flex items-center gap-2">
      <span role="status" className="text-sm text-soft">
        {done}
      </span>
      <DropdownMenu.Root onOpenChange={(open) => open && setDone("")}>
        <DropdownMenu.Trigger className={BUTTON}>Take along</DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" sideOffset={4} className={MENU}>
            <DropdownMenu.Item className={ITEM} onSelect={() => copy("The link", window.location.href)}>
              Copy a link
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} onSelect={() => copy("The command", command(looked, view))}>
              Copy the client’s command
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} disabled={rows.length === 0} onSelect={() => download("events.jsonl", "application/x-ndjson", jsonLines())}>
              JSON lines
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} disabled={rows.length === 0} onSelect={() => download("events.csv", "text/csv", csv())}>
              CSV
            </DropdownMenu.Item>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
    </span>
  );
}
