/** A ready-made recipe for a known kind of log, put into the draft. */
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";

import { useKits } from "../../api/sources";
import { SMALL_BUTTON } from "../../design/buttons";
import { Sentence } from "../../parts/Sentence";
import { Sheet } from "../../parts/Sheet";
import { useDraft } from "./draft";

export function AddKit() {
  const { outline, edit } = useDraft();
  const kits = useKits();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const has = (name: string) => (outline?.parts ?? []).some((p) => p.part === `recipe:${name}`);
  return (
    <Sheet button="From a kit" title="Add a recipe from a kit" says="A kit reads a known kind of log. Its recipe goes into your draft; a source or route uses it by a step, such as use access-log." open={open} onOpenChange={setOpen}>
      <ul aria-label="Kits" className="min-h-0 overflow-y-auto text-sm" tabIndex={0}>
        {kits.data?.map((kit) => (
          <li key={kit.name} className="grid grid-cols-[10rem_minmax(0,1fr)_auto] items-baseline gap-3 border-t border-line py-1.5 first:border-t-0">
            <strong className="font-medium">{kit.name}</strong>
            <details>
              <summary className="cursor-pointer text-soft">{kit.says}</summary>
              <ol>
                {kit.steps.map((s) => (
                  <li key={s}>
                    <Sentence text={s} />
                  </li>
                ))}
              </ol>
            </details>
            {has(kit.name) ? (
              <span className="text-goes-on">✓ in the draft</span>
            ) : (
              <button
                type="button"
                className={SMALL_BUTTON}
                aria-label={`Add the kit ${kit.name}`}
                onClick={() => {
                  edit({ edit: "add_part", text: kit.plan });
                  setOpen(false);
                  void navigate({ to: "/plan", search: { part: `recipe:${kit.name}` }, replace: true });
                }}
              >
                Add
              </button>
            )}
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
