/** A new alert: its name, what it watches and how grave that is; all else is written in the plan. */
import { useNavigate } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { Sheet } from "../../parts/Sheet";
import { literalOf, partOf, useDraft } from "./draft";

const SEVERITIES = ["info", "warn", "error", "fatal"];

export function AddAlert() {
  const { outline, edit } = useDraft();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [wrong, setWrong] = useState("");
  // What can be watched is known with the plan.
  if (outline === undefined) return null;
  const parts = outline.parts;
  // What alerts tell comes by a source as well, and is silent as long as all is well.
  const named = (kind: string) => parts.filter((p) => p.kind !== "alerts").map((p) => partOf(p.part)).filter((p) => p.kind === kind).map((p) => p.name);
  const kinds = [
    ...named("destination").map((name) => ({ sentence: `destination:${name} failing for 2 minutes`, says: `${name} fails` })),
    ...named("destination").map((name) => ({ sentence: `oldest event at destination:${name} > 10 minutes`, says: `events wait long for ${name}` })),
    ...named("source").map((name) => ({ sentence: `source:${name} silent for 15 minutes`, says: `${name} is silent` })),
    ...named("source").map((name) => ({ sentence: `events quarantined at source:${name} over 10 minutes > 20`, says: `${name} sends what cannot be read` })),
    ...named("route").map((name) => ({ sentence: `events at route:${name} over 1 hour > 200 % of last week`, says: `${name} takes twice as much as a week before` })),
    { sentence: "ledger out of balance", says: "the ledger does not balance" },
  ];
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const name = String(form.get("name")).trim();
    if (parts.some((p) => p.part === `alert:${name}`)) return setWrong(`There is an alert “${name}” already.`);
    edit({ edit: "add_part", text: `[alert.${name}]\nwhen = ${literalOf(String(form.get("when")))}\nseverity = "${String(form.get("severity"))}"\n` });
    setOpen(false);
    void navigate({ to: "/plan", search: { part: `alert:${name}` }, replace: true });
  };
  return (
    <Sheet button="Add an alert" title="Add an alert" says="Its sentence can be changed afterwards, to other times and bounds." open={open} onOpenChange={setOpen}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Name
          <input name="name" required maxLength={64} pattern="[A-Za-z][A-Za-z0-9_-]*" title="letters, digits, - and _, a letter first" className={FIELD} />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          It is on when
          <select name="when" className={FIELD}>
            {kinds.map((k) => (
              <option key={k.sentence} value={k.sentence}>
                {k.says}
              </option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Severity
          <select name="severity" defaultValue="warn" className={FIELD}>
            {SEVERITIES.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </label>
        {wrong !== "" && (
          <p role="alert" className="text-sm text-fails">
            ▲ {wrong}
          </p>
        )}
        <button type="submit" className={`${BUTTON} self-start`}>
          Add to the draft
        </button>
      </form>
    </Sheet>
  );
}
