/** What stands around every page: where one is, whether all is well, and the way elsewhere. */
import { Link, Outlet } from "@tanstack/react-router";
import { DropdownMenu } from "radix-ui";
import { useState } from "react";

import { signOut, useStatus } from "./api/client";
import { ITEM, MENU } from "./design/menu";
import { bytes, count } from "./lib/format";
import { Keys } from "./Keys";
import { Frozen } from "./lib/frozen";
import { type Place, usePageTitle, usePlaces } from "./lib/places";
import { chooseTheme, type Theme, theme } from "./lib/theme";
import { Palette } from "./Palette";
import { SignInPage } from "./pages/sign-in/SignInPage";

function PlaceLink({ to, name }: Place) {
  return (
    <Link
      to={to}
      activeOptions={{ exact: to === "/", includeSearch: false }}
      className="border-b-2 border-transparent px-1 py-3 text-soft hover:text-ink data-[status=active]:border-petal data-[status=active]:font-semibold data-[status=active]:text-ink"
    >
      {name}
    </Link>
  );
}

function Wellbeing() {
  const { data, error } = useStatus();
  if (error !== null) return <span className="text-sm text-fails">▲ {error.message}</span>;
  if (data === undefined) return null;
  return (
    <p className="num flex flex-wrap gap-x-4 text-sm text-soft *:whitespace-nowrap" aria-live="polite">
      {data.failing.length > 0 && <span className="font-medium text-fails">▲ {data.failing.join(", ")} failing</span>}
      {(data.alerts ?? []).length > 0 && (
        <Link to="/alerts" className="font-medium text-fails hover:underline" title={data.alerts?.join(", ")}>
          ▲ {count(data.alerts?.length ?? 0)} {data.alerts?.length === 1 ? "alert" : "alerts"}
        </Link>
      )}
      {data.waiting_events > 0 && (
        <span className="text-waits" title={bytes(data.waiting_bytes)}>
          {count(data.waiting_events)} queued
        </span>
      )}
      <Link to="/ledger" className={data.balanced ? "text-goes-on hover:underline" : "font-semibold text-fails hover:underline"}>
        {data.balanced ? "✓ ledger balanced" : "✗ ledger not balanced"}
      </Link>
      <span>revision {data.revision}</span>
    </p>
  );
}

function Menu() {
  const [chosen, setChosen] = useState<Theme>(theme());
  const choose = (value: string) => {
    chooseTheme(value as Theme);
    setChosen(value as Theme);
  };
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="rounded border border-line px-2.5 py-1 text-sm hover:border-line-strong" aria-label="Appearance and session">
        ⋯
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={6} className={MENU}>
          <DropdownMenu.RadioGroup value={chosen} onValueChange={choose}>
            {(["system", "light", "dark"] as const).map((t) => (
              <DropdownMenu.RadioItem key={t} value={t} className={`${ITEM} flex justify-between`}>
                {t === "system" ? "Match system" : t === "light" ? "Light" : "Dark"}
                <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
          <DropdownMenu.Separator className="my-1 border-t border-line" />
          <DropdownMenu.Item className={ITEM} onSelect={() => void signOut().then(() => window.location.assign("/"))}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** The service says in the page whether the browser is signed in. */
const signedIn = document.documentElement.dataset.session !== "none";

export function Shell() {
  return signedIn && window.location.pathname !== "/sign-in" ? <Places /> : <SignedOut />;
}

function SignedOut() {
  usePageTitle(false);
  return <SignInPage />;
}

function Places() {
  const [frozen, setFrozen] = useState(false);
  const { error } = useStatus();
  const places = usePlaces();
  usePageTitle(error?.status !== 401);
  if (error?.status === 401) return <SignInPage />;
  return (
    <Frozen.Provider value={{ frozen, setFrozen }}>
      <header className="sticky top-0 z-10 border-b border-line bg-surface">
        <div className="mx-auto flex max-w-[1880px] flex-wrap items-center gap-x-4 px-5">
          <Link to="/" className="flex items-center gap-2 py-2 text-lg font-semibold">
            <img src="/flower.svg" alt="" width={22} height={22} />
            Rockrose
          </Link>
          <nav aria-label="Places" className="flex flex-wrap gap-x-2">
            {places.map((place) => (
              <PlaceLink key={place.name} {...place} />
            ))}
          </nav>
          <div className="ml-auto flex flex-wrap items-center gap-x-3 gap-y-2 py-1.5 max-md:ml-0 max-md:gap-x-2.5">
            <Wellbeing />
            <button
              type="button"
              aria-pressed={frozen}
              onClick={() => setFrozen(!frozen)}
              className="rounded border border-line px-2.5 py-1 text-sm hover:border-line-strong aria-pressed:border-waits aria-pressed:text-waits"
            >
              {frozen ? "Frozen" : "Freeze"}
            </button>
            <Palette />
            <Keys />
            <Menu />
          </div>
        </div>
      </header>
      <main className="mx-auto max-w-[1880px] px-5 py-5">
        <Outlet />
      </main>
    </Frozen.Provider>
  );
}
