import type { PreviewSample } from '@ouvrage/api/rows';
import { DropdownMenu } from 'radix-ui';
import { useProject } from '../../data/project';
import { EXPORT_FORMATS, queryExportAddress, useAskExportMutation } from '../../data/rows';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';

/** Saves all rows of the query in the editor as a file. */
export function SaveQuery({ path, text, sample }: { path: string; text: string; sample: PreviewSample | undefined }) {
  const { slug } = useProject();
  const [ask] = useAskExportMutation();
  const tell = useTell();
  const save = async (format: string) => {
    try {
      const ticket = await ask({ slug, path, text, format, ...(sample ? { sample } : {}) }).unwrap();
      const link = document.createElement('a');
      link.href = queryExportAddress(slug, ticket);
      link.download = '';
      link.click();
    } catch (problem) {
      tell.problem(problem);
    }
  };
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button tone="quiet" className="h-6! shrink-0">
          Save as
        </Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-50 border border-rule bg-raised py-1 text-ink shadow-sm"
        >
          {EXPORT_FORMATS.map(([format, name]) => (
            <DropdownMenu.Item
              key={format}
              onSelect={() => void save(format)}
              className="cursor-pointer px-3 py-1 data-highlighted:bg-wash data-highlighted:outline-none"
            >
              {name}, all rows
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
