import { ChevronDown } from 'lucide-react';
import { DropdownMenu } from 'radix-ui';

const FORMATS = [
  ['csv', 'Verdicts of these days as CSV'],
  ['junit', 'Newest verdicts as JUnit XML'],
] as const;

/** Verdicts as a file. @param address where a format is had */
export function SaveAs({ address }: { address: (format: 'csv' | 'junit') => string }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="flex h-control items-center gap-1 rounded-edge border border-rule bg-raised px-3 font-medium hover:bg-wash">
        Save as <ChevronDown size={13} aria-hidden />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} className="z-50 border border-rule bg-raised py-1 shadow-lg">
          {FORMATS.map(([format, label]) => (
            <DropdownMenu.Item key={format} asChild>
              <a
                href={address(format)}
                download
                className="block cursor-pointer px-3 py-1.5 outline-none data-[highlighted]:bg-wash"
              >
                {label}
              </a>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
