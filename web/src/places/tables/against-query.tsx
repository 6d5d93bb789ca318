import { Button } from '../../shared/ui/button';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useTell } from '../../shared/toasts';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { Change } from './contract-change';
import type { ContractView, ContractEdit } from '@ouvrage/core/assist';
import type { FileText } from './use-file-text';
/** What differs between contract and query, with one action to take the query's side. */
export function AgainstQuery({
  path,
  file,
  view,
  change,
}: {
  path: string;
  file: FileText;
  view: ContractView;
  change: Change;
}) {
  const { slug } = useProject();
  const [preview, { isLoading }] = usePreviewMutation();
  const tell = useTell();
  const { missing, extra, types } = view.differences;
  /** Types that only the database knows are asked of it. */
  const take = async (
    columns: readonly { readonly name: string; readonly type?: string }[],
  ): Promise<{ name: string; type: string }[] | undefined> => {
    if (columns.every((c) => c.type !== undefined)) return columns.map((c) => ({ name: c.name, type: c.type! }));
    try {
      const rows = await preview({ slug, path, text: file.text, limit: 1 }).unwrap();
      return columns.map((c) => ({
        name: c.name,
        type: c.type ?? rows.columns.find((r) => r.name === c.name)?.type ?? 'text',
      }));
    } catch (error) {
      tell.problem(error as ProblemBody);
      return undefined;
    }
  };
  if (!view.declared)
    return (
      <section className="flex flex-col items-start gap-2">
        <p className="text-soft">This definition has no contract: its columns are those of its query.</p>
        <Button
          tone="act"
          disabled={isLoading || missing.length === 0}
          onClick={() => void take(missing).then((columns) => columns && change({ kind: 'write', columns }))}
        >
          Contract from the query
        </Button>
      </section>
    );
  if (missing.length + extra.length + types.length === 0)
    return <p className="text-holds-text">Contract and query match.</p>;
  return (
    <section
      aria-label="Contract against query"
      className="flex flex-col gap-1.5 border-l-3 border-advisory bg-raised px-2.5 py-2"
    >
      {missing.length > 0 && <p>The query also returns {missing.map((c) => c.name).join(', ')}.</p>}
      {extra.length > 0 && <p>The query does not return {extra.join(', ')}.</p>}
      {types.map((t) => (
        <p key={t.name}>
          {t.name} is <span className="font-mono text-small">{t.ofQuery}</span> in the query,{' '}
          <span className="font-mono text-small">{t.declared}</span> here.
        </p>
      ))}
      <Button
        disabled={isLoading}
        className="self-start"
        onClick={() =>
          void take(missing).then(
            (columns) =>
              columns &&
              change(
                ...columns.map((c): ContractEdit => ({ kind: 'add column', ...c })),
                ...extra.map((column): ContractEdit => ({ kind: 'drop column', column })),
                ...types.map((t): ContractEdit => ({ kind: 'type', column: t.name, type: t.ofQuery })),
              ),
          )
        }
      >
        Update contract from query
      </Button>
    </section>
  );
}
