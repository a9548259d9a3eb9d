/** Where a secret's value is given; it is kept sealed, and never shown again. */
import type { FormEvent } from "react";

import { useChange } from "../api/people";
import { BUTTON } from "../design/buttons";
import { FIELD } from "../design/fields";

export function GiveSecret({ name, says, shownTo = "", onKept }: { name: string; says: string; shownTo?: string; onKept?: () => void }) {
  const change = useChange();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const given = new FormData(form);
    const hosts = String(given.get("shown_to")).split(/[\s,]+/).filter((host) => host !== "");
    change.mutate(
      { method: "PUT", path: `/api/v1/secrets/${encodeURIComponent(name)}`, body: { value: String(given.get("value")), shown_to: hosts } },
      {
        onSuccess: () => {
          form.reset();
          onKept?.();
        },
      },
    );
  };
  return (
    <form onSubmit={submit} className="flex flex-wrap items-end gap-2 text-sm" aria-label={`Secret ${name}`}>
      <span className="pb-1.5">{says}</span>
      <label className="flex flex-col text-xs text-soft">
        Value
        <input name="value" type="password" autoComplete="off" required maxLength={4096} className={FIELD} />
      </label>
      <label className="flex flex-col text-xs text-soft">
        May be shown to (hosts, source:NAME or anywhere)
        <input name="shown_to" defaultValue={shownTo} placeholder="desk.example" className={`${FIELD} w-56`} />
      </label>
      <button type="submit" className={BUTTON} disabled={change.isPending}>
        Keep it
      </button>
      {change.isSuccess && (
        <span role="status" className="pb-1.5 text-goes-on">
          ✓ kept
        </span>
      )}
      {change.error !== null && (
        <span role="alert" className="pb-1.5 text-fails">
          ▲ {change.error.message}
        </span>
      )}
    </form>
  );
}
