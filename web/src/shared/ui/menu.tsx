import { DropdownMenu } from 'radix-ui';
import { Button } from './button';

/** A button that opens a list of things to do or to choose. @param items keys with their words */
export function Menu({
  children,
  items,
  onSelect,
  disabled = false,
  className = '',
}: {
  children: string;
  items: readonly (readonly [key: string, words: string])[];
  onSelect: (key: string) => void;
  disabled?: boolean;
  className?: string;
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button tone="quiet" disabled={disabled || items.length === 0} className={className}>
          {children}
        </Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-50 max-h-80 overflow-auto border border-rule bg-raised py-1 text-ink shadow-sm"
        >
          {items.map(([key, words]) => (
            <DropdownMenu.Item
              key={key}
              onSelect={() => onSelect(key)}
              className="cursor-pointer px-3 py-1 data-highlighted:bg-wash data-highlighted:outline-none"
            >
              {words}
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
