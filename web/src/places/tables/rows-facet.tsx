import { useTableRowsQuery } from '../../app/api';
import { useProject } from '../../app/project';
import type { ProblemBody } from '../../app/types';
import { Grid } from '../../shared/grid';
import { Empty, Loading, ProblemNote } from '../../shared/ui';
import type { TableSummary } from '../../worker/protocol';
import { PREVIEW_ROWS, PreviewFigures } from './preview-panel';

/** Rows of the table as it stands: here, in production, or as its drafts would make it. */
export function RowsFacet({ table }: { table: TableSummary }) {
  const { slug, states } = useProject();
  const { data, error, isFetching, refetch } = useTableRowsQuery({ slug, table: table.fullName, limit: PREVIEW_ROWS }, { refetchOnMountOrArgChange: true });
  if (isFetching && !data) return <Loading what="Reading rows" />;
  if (error)
    return (
      <div className="p-3">
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      </div>
    );
  if (!data) return null;
  const where = { here: 'as built in this workspace', production: 'from production', nowhere: 'from the query: it is not built here yet' }[
    states.get(table.fullName)?.where ?? 'nowhere'
  ];
  return (
    <div className="flex h-full min-h-0 flex-col">
      <p className="flex h-[30px] shrink-0 items-center justify-between border-b border-line px-3.5 text-[12px] text-soft">
        <span>{where}</span>
        <span>
          <PreviewFigures rows={data} />
        </span>
      </p>
      <div className="min-h-0 flex-1">
        {data.rows.length ? <Grid label={`Rows of ${table.fullName}`} columns={data.columns} rows={data.rows} /> : <Empty title="The table has no row" />}
      </div>
    </div>
  );
}
