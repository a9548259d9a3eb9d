/** Anywhere by name: Ctrl-K or ⌘K, a few letters, Enter. */
import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";

import { useFlow } from "./api/client";
import { usePlaces } from "./lib/places";

type Target = { kind: string; name: string; go: () => void };

/** Most targets that are listed at once. */
const MOST = 12;

function Targets({ close }: { close: () => void }) {
  const { data } = useFlow(true);
  const navigate = useNavigate();
  const [written, setWritten] = useState("");
  const [chosen, setChosen] = useState(0);
  const at = (kind: string, name: string): Target => ({ kind, name, go: () => void navigate({ to: "/", search: { at: `${kind}:${name}` } }) });
  const all: Target[] = [
    ...usePlaces().map((p): Target => ({ kind: "place", name: p.name, go: () => void navigate({ to: p.to }) })),
    ...(data?.routes ?? []).map((r): Target => ({ kind: "route", name: r.name, go: () => void navigate({ to: "/routes/$name", params: { name: r.name } }) })),
    ...(data?.sources ?? []).map((s) => at("source", s.name)),
    ...(data?.destinations ?? []).map((d) => at("destination", d.name)),
  ];
  const wanted = written.toLowerCase();
  const found = all.filter((t) => `${t.kind} ${t.name}`.toLowerCase().includes(wanted)).slice(0, MOST);
  const pick = (target: Target | undefined) => {
    if (target === undefined) return;
    target.go();
    close();
  };
  return (
    <>
      <input
        autoFocus
        value={written}
        role="combobox"
        aria-expanded="true"
        aria-controls="palette-list"
        aria-activedescendant={`palette-${chosen}`}
        aria-label="Go to"
        placeholder="a route, source, destination or place"
        onChange={(e) => {
          setWritten(e.target.value);
          setChosen(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setChosen(Math.min(chosen + 1, found.length - 1));
          else if (e.key === "ArrowUp") setChosen(Math.max(chosen - 1, 0));
          else if (e.key === "Enter") pick(found[chosen]);
          else return;
          e.preventDefault();
        }}
        className="w-full border-b border-line bg-transparent px-4 py-3 outline-none"
      />
      <ul id="palette-list" role="listbox" aria-label="Targets" className="max-h-96 overflow-y-auto p-2">
        {found.map((t, i) => (
          <li
            key={`${t.kind} ${t.name}`}
            id={`palette-${i}`}
            role="option"
            aria-selected={i === chosen}
            onClick={() => pick(t)}
            onMouseMove={() => setChosen(i)}
            className="flex cursor-pointer justify-between rounded px-2 py-1.5 aria-selected:bg-petal-wash aria-selected:text-petal"
          >
            {t.name}
            <span className="text-sm text-soft">{t.kind}</span>
          </li>
        ))}
        {found.length === 0 && <li className="px-2 py-1.5 text-sm text-soft">No match.</li>}
      </ul>
    </>
  );
}

export function Palette() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setOpen((o) => !o);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="rounded border border-line px-2.5 py-1 text-sm whitespace-nowrap hover:border-line-strong">
        Go to <kbd className="font-mono text-xs text-soft max-md:hidden">Ctrl K</kbd>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-ink/30" />
        <Dialog.Content aria-describedby={undefined} className="card fixed top-24 left-1/2 z-30 w-[32rem] max-w-[90vw] -translate-x-1/2 shadow-(--shadow)">
          <Dialog.Title className="sr-only">Go to</Dialog.Title>
          <Targets close={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
