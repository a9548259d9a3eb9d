/** A sheet over the page, opened by a button: a heading, a word on what it shows, and what is in it. */
import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

import { BUTTON, SMALL_BUTTON } from "../design/buttons";

interface SheetProps {
  button: string;
  className?: string | undefined;
  title: string;
  says: ReactNode;
  /** Whether it is open, where whoever uses it decides. */
  open?: boolean;
  onOpenChange?: (open: boolean) => void;
  children: ReactNode;
}

export function Sheet({ button, className, title, says, open, onOpenChange, children }: SheetProps) {
  return (
    <Dialog.Root {...(open !== undefined && { open })} {...(onOpenChange && { onOpenChange })}>
      <Dialog.Trigger className={className ?? SMALL_BUTTON}>{button}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-ink/30" />
        <Dialog.Content className="card fixed top-[6vh] left-1/2 z-30 flex max-h-[86vh] w-[56rem] max-w-[94vw] -translate-x-1/2 flex-col gap-3 p-5">
          <div className="flex items-baseline justify-between gap-3">
            <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
            <Dialog.Close className={BUTTON}>Close</Dialog.Close>
          </div>
          <Dialog.Description className="text-sm text-soft">{says}</Dialog.Description>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
