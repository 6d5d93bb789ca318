import { Link, useSearchParams } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { VirtualList } from '../../shared/ui/virtual-list';
import { Derivation } from '../lineage/derivation';
import { useTrace } from '../lineage/use-trace';
import type { TableSummary } from '../../worker/protocol';

/** Where each column of a table comes from and what it feeds. */
export function TraceFacet({ table }: { table: TableSummary }) {
  const { slug } = useProject();
  const [search] = useSearchParams();
  const columns = table.columns ?? [];
  const chosen = columns.find((c) => c.name === search.get('column')) ?? columns[0];
  const of = chosen && { table: table.fullName, column: chosen.name };
  const trace = useTrace(of);
  if (!of)
    return (
      <Empty title="The columns of this table are not known">
        <p>Correct the errors of its definition to see where they come from.</p>
      </Empty>
    );
  return (
    <div className="flex h-full min-h-0">
      <VirtualList
        label={`Columns of ${table.fullName}`}
        items={columns}
        keyOf={(c) => c.name}
        height={29}
        className="w-82.5 shrink-0 border-r border-line"
      >
        {(column) => (
          <Link
            to={address.trace(slug, { table: table.fullName, column: column.name })}
            replace
            aria-current={column.name === of.column ? 'true' : undefined}
            className={`flex items-center gap-3 border-b border-line/60 px-3.5 py-1 hover:bg-wash ${column.name === of.column ? 'bg-wash font-medium text-plan' : ''}`}
          >
            <span className="min-w-0 flex-1 truncate">{column.name}</span>
            {column.type && <span className="shrink-0 font-mono text-small text-soft">{column.type}</span>}
          </Link>
        )}
      </VirtualList>
      <div className="min-w-0 flex-1 overflow-auto p-4">
        <div className="flex max-w-180 flex-col gap-4">
          <div className="flex items-baseline gap-3">
            <h2 className="sheet-title">{of.column}</h2>
            <Link to={address.way(slug, of)} className="text-plan underline">
              Draw its way
            </Link>
          </div>
          {trace === undefined ? (
            <Loading what="Following the column" />
          ) : trace === null ? (
            <p className="text-soft">This column is not in the saved definition yet. Save the draft to follow it.</p>
          ) : (
            <Derivation trace={trace} addressOf={(column) => address.trace(slug, column)} />
          )}
        </div>
      </div>
    </div>
  );
}
