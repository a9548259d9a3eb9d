/** A new alert: its name, what it watches and how grave that is; all else is written in the plan. */
import { FIELD } from "../../design/fields";
import { AddPart } from "./AddPart";
import { literalOf, partOf, useDraft } from "./draft";

const SEVERITIES = ["info", "warn", "error", "fatal"];

export function AddAlert() {
  const { outline } = useDraft();
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
    { sentence: "disk >= 90 %", says: "the disk with the data fills up" },
    { sentence: "any token ends within 72 hours", says: "a program's token is about to end" },
    { sentence: "ledger out of balance", says: "the ledger does not balance" },
  ];
  const write = (name: string, form: FormData) => ({
    text: `[alert.${name}]\nwhen = ${literalOf(String(form.get("when")))}\nseverity = "${String(form.get("severity"))}"\n`,
  });
  return (
    <AddPart kind="alert" article="an alert" says="Its sentence can be changed afterwards, to other times and bounds." pattern="[A-Za-z][A-Za-z0-9_-]*" named="letters, digits, - and _, a letter first" write={write}>
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
    </AddPart>
  );
}
