/** For a browser that is not known here. */
import { Message, Paste } from "../../parts/Message";

export function SignInPage() {
  const ended = new URLSearchParams(window.location.search).get("link") === "ended";
  return (
    <main className="flex min-h-screen flex-col items-center justify-center gap-4 p-6">
      <img src="/flower.svg" alt="" width={56} height={56} />
      <h1 className="text-xl font-semibold">Rockrose</h1>
      <Message title={ended ? "This link has already been used or has expired." : "You are not signed in."}>
        A link opens this console once. Make one in a terminal on the machine that knows the service, and open it here:
        <Paste line="rockrose link" />
      </Message>
    </main>
  );
}
