/** A new route: its name and where it leads; its sentences are written afterwards. */
import { useNavigate } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { Sheet } from "../../parts/Sheet";
import { listed, partOf, useDraft } from "./draft";

export function AddRoute() {
  const { outline, edit } = useDraft();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const destinations = (outline?.parts ?? []).map((p) => partOf(p.part)).filter((p) => p.kind === "destination");
  const taken = (outline?.parts ?? []).map((p) => p.part);
  const [wrong, setWrong] = useState("");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const name = String(form.get("name")).trim();
    const to = form.getAll("to").map(String);
    if (taken.includes(`route:${name}`)) return setWrong(`There is a route “${name}” already.`);
    if (to.length === 0) return setWrong("Choose at least one destination.");
    edit({ edit: "add_part", text: `[[route]]\nname = ${JSON.stringify(name)}\ndo = []\nto = ${listed(to)}\n` });
    setOpen(false);
    void navigate({ to: "/plan", search: { part: `route:${name}` }, replace: true });
  };
  return (
    <Sheet button="Add a route" title="Add a route" says="It takes every event until you write a condition for it." open={open} onOpenChange={setOpen}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Name
          <input name="name" required maxLength={64} pattern="[A-Za-z0-9][A-Za-z0-9_-]*" title="letters, digits, - and _" className={FIELD} />
        </label>
        <fieldset className="flex flex-wrap gap-x-4 gap-y-1 text-sm">
          <legend className="text-soft">Leads to</legend>
          {destinations.map((d) => (
            <label key={d.name} className="flex items-center gap-1.5">
              <input type="checkbox" name="to" value={d.name} /> {d.name}
            </label>
          ))}
        </fieldset>
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
