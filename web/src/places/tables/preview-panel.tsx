import type { PreviewState } from './use-preview';
import { useState } from 'react';
import type { Rows } from '@ouvrage/api/rows';
import type { StepError } from '@ouvrage/api/run';
import { FaultGrid } from '../../shared/fault-grid';
import { count, duration, plural, rows as rowsWords } from '../../shared/format';
import { Grid } from '../../shared/grid';
import { Sql } from '../../shared/diff';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { Modal } from '../../shared/ui/modal';

/** How many rows were read, how long it took, and the SQL behind it. */
export function PreviewFiguresLine({ preview: { rows } }: { preview: PreviewState }) {
  const [showing, setShowing] = useState(false);
  if (!rows) return null;
  return (
    <>
      <PreviewFigures rows={rows} /> ·{' '}
      <button type="button" className="text-plan underline underline-offset-2" onClick={() => setShowing(true)}>
        SQL that ran
      </button>
      {showing && (
        <Modal title="The SQL that ran" open onClose={() => setShowing(false)} wide>
          <p className="pb-2 text-soft">
            The query with the names of this environment, read-only, as it runs in any client.
          </p>
          <Sql text={rows.sql} label="SQL that ran" />
        </Modal>
      )}
    </>
  );
}

/** Rows of a query with what was read, for where they are all that is seen of it. */
export function PreviewPanel({ preview, table }: { preview: PreviewState; table: string }) {
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="flex h-7.5 shrink-0 items-center justify-between gap-3 border-b border-line bg-paper/60 px-3.5">
        <h2 className="caps">Preview</h2>
        <span className="truncate text-small text-soft">
          {preview.running ? (
            <>
              running …{' '}
              <Button tone="quiet" onClick={preview.stop}>
                Stop
              </Button>
            </>
          ) : (
            <PreviewFiguresLine preview={preview} />
          )}
        </span>
      </div>
      <div className="min-h-0 flex-1">
        <PreviewRows preview={preview} table={table} />
      </div>
    </div>
  );
}

/** Rows of the query in the editor. */
export function PreviewRows({
  preview,
  table,
  chosen,
  onChoose,
}: {
  preview: PreviewState;
  table: string;
  chosen?: ReadonlySet<number>;
  onChoose?: (row: number) => void;
}) {
  const { rows, problem, running } = preview;
  const failed = problem?.['error'] as StepError | undefined;
  if (running && !rows) return <Loading what="Running the query in the warehouse" />;
  if (problem && !running)
    return (
      <div className="flex h-full flex-col gap-3 overflow-auto p-3">
        <ProblemNote problem={problem} />
        {failed?.rows && (
          <FaultGrid
            title="Rows that stop the query"
            about={table}
            rows={failed.rows}
            atFault={failed.rows.rows.length}
          />
        )}
      </div>
    );
  if (!rows)
    return (
      <Empty title="Nothing previewed yet">
        <p>Ctrl Enter or Preview runs the query as written, including drafts upstream. Nothing is built or stored.</p>
      </Empty>
    );
  return rows.rows.length ? (
    <Grid
      label={`Rows of ${table}`}
      columns={rows.columns}
      rows={rows.rows}
      {...(chosen && onChoose ? { chosen, onChoose } : {})}
    />
  ) : (
    <Empty title="The query returns no rows">
      <p>{plural(rows.columns.length, 'column')}, but no rows. Check the conditions and joins.</p>
    </Empty>
  );
}

export function PreviewFigures({ rows }: { rows: Rows }) {
  const shown = rows.rows.length;
  const all =
    rows.total === null
      ? `first ${rowsWords(shown)}, more not counted`
      : rows.total === shown
        ? shown === 1
          ? 'all 1 row'
          : `all ${rowsWords(shown)}`
        : `first ${count(shown)} of ${rowsWords(rows.total)}`;
  return (
    <>
      {all}, {duration(rows.milliseconds)}
      {rows.isFull && (
        <span title="Values are long; more rows would not fit into one answer.">, as many as one answer holds</span>
      )}
      {rows.sampled && <span className="text-advisory-text">, from a sample of {rows.sampled}</span>}
      {rows.inlined.length > 0 && (
        <span title={`Not built in this workspace, so their queries were inlined: ${rows.inlined.join(', ')}`}>
          , from drafts of {rows.inlined.join(', ')}
        </span>
      )}
    </>
  );
}
