/** A new budget: its name, and what may pass where; steps that ask how much of it is used are written where they act. */
import { FIELD } from "../../design/fields";
import { AddPart } from "./AddPart";
import { literalOf, partOf, useDraft } from "./draft";

export function AddBudget() {
  const { outline } = useDraft();
  // The places are known with the plan.
  if (outline === undefined) return null;
  const places = outline.parts.filter((p) => ["destination", "route", "source"].includes(partOf(p.part).kind) && p.kind !== "alerts").map((p) => p.part);
  places.sort((a, b) => ["destination", "route", "source"].indexOf(partOf(a).kind) - ["destination", "route", "source"].indexOf(partOf(b).kind));
  const write = (name: string, form: FormData) => {
    const of = (field: string) => String(form.get(field)).trim();
    return { text: `[budget.${name}]\nallows = ${literalOf(`${of("most")} ${of("unit")} a ${of("period")} at ${of("place")}`)}\n` };
  };
  return (
    <AddPart
      kind="budget"
      article="a budget"
      says="It is told when 80 % and 100 % of it are used, and when it will not suffice. A step such as drop severity < error when budget:NAME >= 100 % acts by it."
      pattern="[A-Za-z][A-Za-z0-9_-]*"
      named="letters, digits, - and _, a letter first"
      write={write}
    >
      <fieldset className="flex flex-wrap items-end gap-2">
        <legend className="sr-only">What may pass</legend>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Up to
          <input name="most" required inputMode="decimal" pattern="[0-9]+([.][0-9]+)?" defaultValue="40" className={`${FIELD} w-28`} />
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Unit
          <select name="unit" defaultValue="GB" className={FIELD}>
            {["KB", "MB", "GB", "events", "EUR", "USD", "GBP"].map((unit) => (
              <option key={unit}>{unit}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          In a
          <select name="period" className={FIELD}>
            <option>day</option>
            <option>month</option>
          </select>
        </label>
      </fieldset>
      <label className="flex flex-col gap-1 text-sm text-soft">
        Where
        <select name="place" className={FIELD}>
          {places.map((place) => (
            <option key={place}>{place}</option>
          ))}
        </select>
      </label>
    </AddPart>
  );
}
