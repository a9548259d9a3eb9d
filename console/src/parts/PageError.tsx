/** What is shown in place of a page that cannot be: its part of the console could not be fetched, or it failed. */
import { useEffect } from "react";

import { BUTTON } from "../design/buttons";
import { Message } from "./Message";

/** It is asked so often whether the service is back, in milliseconds. */
const EVERY = 1000;

/** A part of the console could not be fetched. */
export class NotFetched extends Error {
  constructor() {
    super("the service does not answer");
  }
}

export function PageError({ error }: { error: unknown }) {
  const says = error instanceof Error ? error.message : String(error);
  const away = error instanceof NotFetched;
  useEffect(() => {
    if (!away) return;
    // Nothing was written on a page that was never shown, so it can be loaded again by itself.
    const asking = setInterval(() => {
      fetch("/healthz").then(
        (answer) => answer.ok && window.location.reload(),
        () => undefined,
      );
    }, EVERY);
    return () => clearInterval(asking);
  }, [away]);
  return (
    <Message tone="fails" heading title={away ? "The page cannot be loaded: the service does not answer." : `The page cannot be shown: ${says}.`}>
      {away ? "It is loaded as soon as the service is back." : "This is a fault of the page. What the service does is not touched by it."}{" "}
      <button type="button" className={`${BUTTON} ml-2`} onClick={() => window.location.reload()}>
        Load it again
      </button>
    </Message>
  );
}
