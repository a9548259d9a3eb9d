/** A form for a new part of the plan: its name, and what else it needs at first; all else is written afterwards. */
import { useNavigate } from "@tanstack/react-router";
import { type FormEvent, type ReactNode, useState } from "react";

import { BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { Sheet } from "../../parts/Sheet";
import { useDraft } from "./draft";

interface AddPartProps {
  kind: string;
  /** The kind with its article. */
  article: string;
  says: string;
  /** What its name may be, as a pattern and in words. */
  pattern: string;
  named: string;
  /** The part as it stands in a plan, or what is wrong with what was filled in. */
  write: (name: string, form: FormData) => { text: string } | { wrong: string };
  children: ReactNode;
}

export function AddPart({ kind, article, says, pattern, named, write, children }: AddPartProps) {
  const { outline, edit } = useDraft();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const [wrong, setWrong] = useState("");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const name = String(form.get("name")).trim();
    const part = `${kind}:${name}`;
    if ((outline?.parts ?? []).some((p) => p.part === part)) return setWrong(`There is ${article} “${name}” already.`);
    const written = write(name, form);
    if ("wrong" in written) return setWrong(written.wrong);
    edit({ edit: "add_part", text: written.text });
    setOpen(false);
    void navigate({ to: "/plan", search: { part }, replace: true });
  };
  return (
    <Sheet button={`Add ${article}`} title={`Add ${article}`} says={says} open={open} onOpenChange={setOpen}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Name
          <input name="name" required maxLength={64} pattern={pattern} title={named} className={FIELD} />
        </label>
        {children}
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
