/** A new route: its name and where it leads; its sentences are written afterwards. */
import { AddPart } from "./AddPart";
import { listed, partOf, useDraft } from "./draft";

export function AddRoute() {
  const { outline } = useDraft();
  const destinations = (outline?.parts ?? []).map((p) => partOf(p.part)).filter((p) => p.kind === "destination");
  const write = (name: string, form: FormData) => {
    const to = form.getAll("to").map(String);
    if (to.length === 0) return { wrong: "Choose at least one destination." };
    return { text: `[[route]]\nname = ${JSON.stringify(name)}\ndo = []\nto = ${listed(to)}\n` };
  };
  return (
    <AddPart kind="route" article="a route" says="It takes every event until you write a condition for it." pattern="[A-Za-z0-9][A-Za-z0-9_-]*" named="letters, digits, - and _" write={write}>
      <fieldset className="flex flex-wrap gap-x-4 gap-y-1 text-sm">
        <legend className="text-soft">Leads to</legend>
        {destinations.map((d) => (
          <label key={d.name} className="flex items-center gap-1.5">
            <input type="checkbox" name="to" value={d.name} /> {d.name}
          </label>
        ))}
      </fieldset>
    </AddPart>
  );
}
