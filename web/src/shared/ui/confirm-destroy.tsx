import { Button } from './button';
import { AlertDialog } from 'radix-ui';
import type { ReactNode } from 'react';
/**
 * Asks once before something is destroyed, and says what.
 * @param stays it is closed by who opened it alone: what is confirmed may have to be asked again
 */
export function ConfirmDestroy({
  title,
  what,
  action,
  open,
  onClose,
  onConfirm,
  stays = false,
}: {
  title: string;
  what: ReactNode;
  action: string;
  open: boolean;
  onClose: () => void;
  onConfirm: () => void;
  stays?: boolean;
}) {
  return (
    <AlertDialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/5 left-1/2 z-50 w-dialog -translate-x-1/2 border border-rule bg-sheet p-4 text-ink shadow-lg">
          <AlertDialog.Title className="sheet-title">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="my-3">{what}</div>
          </AlertDialog.Description>
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Cancel</Button>
            </AlertDialog.Cancel>
            {stays ? (
              <Button tone="danger" onClick={onConfirm}>
                {action}
              </Button>
            ) : (
              <AlertDialog.Action asChild>
                <Button tone="danger" onClick={onConfirm}>
                  {action}
                </Button>
              </AlertDialog.Action>
            )}
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
