import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

interface Props {
  title: ReactNode;
  width: number;
  onClose: () => void;
  children: ReactNode;
}

/** A sheet over the page; Esc or a click beside it puts it away. */
export function Sheet({ title, width, onClose, children }: Props) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-16 left-1/2 z-30 flex max-h-[80vh] max-w-[94vw] -translate-x-1/2 flex-col gap-3 rounded-[3px] border border-line bg-panel p-4 outline-none"
          style={{ width }}
        >
          <Dialog.Title className="text-large font-semibold">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
