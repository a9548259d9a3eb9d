/** For a browser that is not known here: it comes by a link, which a click confirms, through the company's provider, or with a name and a password. */
import { type FormEvent, useState } from "react";

import { signIn, useSignInWays } from "../../api/client";
import { BUTTON } from "../../design/buttons";
import { Message, Paste } from "../../parts/Message";

const FIELD = "mt-1 w-full rounded border border-line bg-surface px-2.5 py-1.5 text-ink focus:border-petal focus:outline-none";

/** Why somebody came back from the provider without being signed in, by the word that they came back with. */
function whyNot(word: string | null, provider: string): string | null {
  switch (word) {
    case null:
      return null;
    case "provider":
      return `${provider} cannot be asked at the moment`;
    case "declined":
      return `no account of ${provider} was chosen`;
    case "journey":
      return "signing in took too long, or began in another browser; begin again";
    case "unknown":
      return "nobody was added here by that account's name; ask whoever looks after this console to add you";
    case "account":
      return "the person of that name signs in with another account; ask whoever looks after this console";
    case "wait":
      return "there were too many failures from this address; wait a minute";
    case "service":
      return "the service failed; its log says why";
    default:
      return `what ${provider} answered does not let you in; the service's log says why`;
  }
}

export function SignInPage() {
  const asked = new URLSearchParams(window.location.pathname === "/sign-in" ? window.location.search : "");
  const code = asked.get("code");
  const { data: ways } = useSignInWays();
  const provider = ways?.openid ?? null;
  const [refused, setWrong] = useState<string | null>(null);
  const wrong = refused ?? whyNot(asked.get("wrong"), provider ?? "the provider");
  const [busy, setBusy] = useState(false);
  const enter = (by: { code: string } | { name: string; password: string }) => {
    setBusy(true);
    signIn(by).then(
      () => window.location.assign("/"),
      (e: Error) => {
        setWrong(e.message);
        setBusy(false);
      },
    );
  };
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    enter({ name: String(given.get("name")), password: String(given.get("password")) });
  };
  return (
    <main className="flex min-h-screen flex-col items-center justify-center gap-4 p-6">
      <img src="/flower.svg" alt="" width={56} height={56} />
      <h1 className="text-xl font-semibold">Rockrose</h1>
      {wrong !== null && <Message tone="fails" title={`${wrong.charAt(0).toUpperCase()}${wrong.slice(1)}.`} />}
      {code !== null && wrong === null ? (
        <button type="button" className={BUTTON} disabled={busy} onClick={() => enter({ code })}>
          Sign in to this console
        </button>
      ) : (
        <>
          {provider !== null && (
            <a href="/sign-in/openid" className={`${BUTTON} inline-block`}>
              Sign in with {provider}
            </a>
          )}
          <form onSubmit={submit} className="card flex w-full max-w-sm flex-col gap-3 p-5" aria-label="Sign in with a password">
            <label className="text-sm text-soft">
              Name
              <input name="name" autoComplete="username" required className={FIELD} />
            </label>
            <label className="text-sm text-soft">
              Password
              <input name="password" type="password" autoComplete="current-password" required className={FIELD} />
            </label>
            <button type="submit" className={`${BUTTON} self-start`} disabled={busy}>
              Sign in
            </button>
          </form>
          <div className="w-full max-w-sm">
            <Message title="Or sign in by a link.">
              A link signs one browser in, once. Make one in a terminal on the machine that knows the service, and open it here:
              <Paste line="rockrose link" />
            </Message>
          </div>
        </>
      )}
    </main>
  );
}
