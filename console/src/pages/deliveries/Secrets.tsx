/** Secrets: their names, and to whom each may be shown; never their values. */
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type ServiceError, get } from "../../api/client";
import { useChange } from "../../api/people";
import type { components } from "../../api/schema";
import { BUTTON, SMALL_BUTTON } from "../../design/buttons";
import { FIELD } from "../../design/fields";
import { clock, utc } from "../../lib/format";
import { GiveSecret } from "../../parts/GiveSecret";
import { Twice } from "../../parts/Twice";

type SecretName = components["schemas"]["SecretName"];

function useSecrets() {
  return useQuery<SecretName[], ServiceError>({ queryKey: ["/api/v1/secrets"], queryFn: ({ signal }) => get<SecretName[]>("/api/v1/secrets", signal), retry: false, refetchInterval: 10_000 });
}

export function Secrets({ may }: { may: boolean }) {
  const { data } = useSecrets();
  const change = useChange();
  const [given, setGiven] = useState<string | null>(null);
  const add = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const name = String(new FormData(event.currentTarget).get("name")).trim();
    event.currentTarget.reset();
    setGiven(name);
  };
  return (
    <section aria-labelledby="secrets" className="card p-4">
      <h2 id="secrets" className="pb-2 text-lg font-semibold">
        Secrets
      </h2>
      {data?.length === 0 && <p className="text-sm text-soft">None is kept yet. A plan refers to one by its name; its value is given here, kept sealed and never shown again.</p>}
      <ul aria-label="Secrets" className="text-sm">
        {data?.map((s) => (
          <li key={s.name} className="border-t border-line py-1.5">
            <div className="grid grid-cols-[14rem_minmax(0,1fr)_8rem_auto] items-baseline gap-3 max-md:grid-cols-1">
              <code className="font-mono text-xs">{s.name}</code>
              <span className="text-soft">
                may be shown to {s.shown_to.join(", ")}
                {s.used ? "" : "; not used by the active plan"}
              </span>
              <time className="num text-xs text-soft" title={utc(s.set_ms)}>
                set {clock(s.set_ms)}
              </time>
              {may && (
                <span className="flex gap-1.5">
                  <button type="button" className={SMALL_BUTTON} aria-label={`Replace ${s.name}`} aria-expanded={given === s.name} onClick={() => setGiven(given === s.name ? null : s.name)}>
                    Replace
                  </button>
                  {!s.used && <Twice says="Forget" asks={`Forget ${s.name}?`} onDo={() => change.mutate({ method: "DELETE", path: `/api/v1/secrets/${encodeURIComponent(s.name)}` })} />}
                </span>
              )}
            </div>
            {given === s.name && <GiveSecret name={s.name} says="The new value takes effect at once." shownTo={s.shown_to.join(", ")} />}
          </li>
        ))}
      </ul>
      {change.error !== null && (
        <p role="alert" className="text-sm text-fails">
          ▲ {change.error.message}
        </p>
      )}
      {may && (
        <div className="border-t border-line pt-2">
          <form onSubmit={add} className="flex items-end gap-2">
            <label className="flex flex-col text-xs text-soft">
              A new secret’s name
              <input name="name" required maxLength={64} pattern="[A-Za-z0-9][A-Za-z0-9_-]*" title="letters, digits, - and _" className={FIELD} />
            </label>
            <button type="submit" className={BUTTON}>
              Give its value
            </button>
          </form>
          {given !== null && data?.every((s) => s.name !== given) === true && <GiveSecret name={given} says={`The value of ${given}:`} />}
        </div>
      )}
    </section>
  );
}
