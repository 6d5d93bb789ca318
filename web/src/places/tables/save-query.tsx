import type { PreviewSample } from '@ouvrage/api/rows';
import { useProject } from '../../data/project';
import { EXPORT_FORMATS, queryExportAddress, useAskExportMutation } from '../../data/rows';
import { useTell } from '../../shared/toasts';
import { Menu } from '../../shared/ui/menu';

/** Saves all rows of the query in the editor as a file, or some of them as a worked example. */
export function SaveQuery({
  path,
  text,
  sample,
  example,
}: {
  path: string;
  text: string;
  sample: PreviewSample | undefined;
  /** In words, and what it does; where the query can have examples. */
  example: { readonly words: string; readonly onSelect: () => void } | undefined;
}) {
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
    <Menu
      className="h-6! shrink-0"
      items={[
        ...EXPORT_FORMATS.map(([format, name]) => [format, `${name}, all rows`] as const),
        ...(example ? [['example', example.words] as const] : []),
      ]}
      onSelect={(key) => (key === 'example' ? example?.onSelect() : void save(key))}
    >
      Save as
    </Menu>
  );
}
