import { Dialog } from 'radix-ui';
import type { ReactNode } from 'react';
export function Modal({
  title,
  open,
  onClose,
  children,
  wide,
}: {
  title: string;
  open: boolean;
  onClose: () => void;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className={`fixed top-1/8 left-1/2 z-50 flex max-h-most -translate-x-1/2 flex-col border border-rule bg-sheet text-ink shadow-lg ${wide ? 'w-dialog-full' : 'w-dialog'}`}
        >
          <Dialog.Title className="sheet-title border-b border-line px-4 py-2.5">{title}</Dialog.Title>
          <div className="min-h-0 overflow-auto px-4 py-3">{children}</div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
