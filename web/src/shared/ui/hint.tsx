import { Tooltip } from 'radix-ui';
import type { ReactNode } from 'react';
/** A short explanation on hover and focus. */
export function Hint({ text, children }: { text: string; children: ReactNode }) {
  return (
    <Tooltip.Root delayDuration={250}>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={5}
          className="z-50 max-w-80 rounded-edge border border-rule bg-raised px-2 py-1 text-small text-ink shadow-sm"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}
