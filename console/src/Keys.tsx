/** What can be done by keyboard, on `?`. */
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";

import { BUTTON } from "./design/buttons";

const KEYS = [
  { where: "Everywhere", keys: [["Ctrl K", "go anywhere by name"], ["?", "this list"], ["Esc", "close what is open"], ["Tab", "go on to the next thing"]] },
  { where: "A sentence that is written", keys: [["↓ ↑", "choose what may stand next"], ["Enter, Tab", "take what is chosen"], ["Enter", "keep the sentence"], ["Esc", "leave it as it was"]] },
  { where: "Plan", keys: [["Alt ↑, Alt ↓", "move a step"], ["Ctrl Z", "undo the last change of the draft"]] },
  { where: "Events", keys: [["← →", "go through the values of a field"], ["↑ ↓", "go to the next field"], ["Enter", "only events with this value"], ["-", "only events without it"]] },
] as const;

export function Keys() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      const written = e.target instanceof HTMLElement && (e.target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(e.target.tagName));
      if (e.key !== "?" || written || e.ctrlKey || e.metaKey) return;
      e.preventDefault();
      setOpen(true);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-ink/30" />
        <Dialog.Content className="card fixed top-[8vh] left-1/2 z-30 max-h-[84vh] w-[44rem] max-w-[94vw] -translate-x-1/2 overflow-y-auto p-5">
          <div className="flex items-baseline justify-between gap-3">
            <Dialog.Title className="text-lg font-semibold">Keys</Dialog.Title>
            <Dialog.Close className={BUTTON}>Close</Dialog.Close>
          </div>
          <Dialog.Description className="pb-2 text-sm text-soft">Everything can be done without a mouse.</Dialog.Description>
          <div className="grid grid-cols-2 gap-x-8 gap-y-3 max-md:grid-cols-1">
            {KEYS.map(({ where, keys }) => (
              <section key={where} aria-label={where}>
                <h2 className="pb-1 text-sm font-semibold text-soft">{where}</h2>
                <dl className="grid grid-cols-[7.5rem_1fr] gap-y-1 text-sm">
                  {keys.map(([key, does]) => (
                    <div key={key + does} className="contents">
                      <dt>
                        <kbd className="rounded border border-line px-1.5 font-mono text-xs">{key}</kbd>
                      </dt>
                      <dd>{does}</dd>
                    </div>
                  ))}
                </dl>
              </section>
            ))}
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
