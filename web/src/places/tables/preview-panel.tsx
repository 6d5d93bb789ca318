import { useEffect, useRef, useState } from 'react';
import { usePreviewMutation } from '../../app/api';
import { useProject } from '../../app/project';
import type { PreviewSample, ProblemBody, Rows, StepError } from '../../app/types';
import { FaultGrid } from '../../shared/fault-grid';
import { count, duration } from '../../shared/format';
import { Grid } from '../../shared/grid';
import { Sql } from '../../shared/diff';
import { Button, Empty, Loading, Modal, ProblemNote } from '../../shared/ui';
import { SampleChoice } from './sample-choice';

export const PREVIEW_ROWS = 500;

export interface PreviewState {
  readonly rows?: Rows;
  readonly problem?: ProblemBody;
  readonly running: boolean;
  readonly run: (text: string) => void;
  readonly stop: () => void;
  readonly sample: PreviewSample | undefined;
  readonly setSample: (sample: PreviewSample | undefined) => void;
}

/** Runs previews of a file; a new one ends the one before, and leaving ends it in the warehouse. */
export function usePreview(path: string, onPlace: (line: number, column: number) => void): PreviewState {
  const { slug } = useProject();
  const [ask] = usePreviewMutation();
  const [result, setResult] = useState<{ rows?: Rows; problem?: ProblemBody }>({});
  const [running, setRunning] = useState(false);
  const going = useRef<{ abort: () => void }>(undefined);
  useEffect(() => () => going.current?.abort(), []);
  const [sample, setSample] = useState<PreviewSample>();
  const run = (text: string) => {
    going.current?.abort();
    const request = ask({ slug, path, text, limit: PREVIEW_ROWS, ...(sample ? { sample } : {}) });
    going.current = request;
    setRunning(true);
    request
      .unwrap()
      .then((rows) => setResult({ rows }))
      .catch((error: ProblemBody & { name?: string }) => {
        if (error.name === 'AbortError') return;
        setResult({ problem: error });
        const place = error['error'] as StepError | undefined;
        if (place?.line !== undefined && place.path === path) onPlace(place.line, place.column ?? 1);
      })
      .finally(() => going.current === request && setRunning(false));
  };
  return { ...result, running, run, stop: () => going.current?.abort(), sample, setSample };
}

/** Rows of the query in the editor. */
export function PreviewPanel({
  preview,
  table,
  inputs = [],
}: {
  preview: PreviewState;
  table: string;
  /** Tables that can be sampled. */ inputs?: readonly string[];
}) {
  const { rows, problem, running } = preview;
  const failed = problem?.['error'] as StepError | undefined;
  const [showing, setShowing] = useState(false);
  return (
    <div className="flex h-full min-h-0 flex-col">
      {showing && rows && (
        <Modal title="The SQL that ran" open onClose={() => setShowing(false)} wide>
          <p className="pb-2 text-soft">The query with the names of this environment, read-only, as it runs in any client.</p>
          <Sql text={rows.sql} label="SQL that ran" />
        </Modal>
      )}
      <div className="flex h-[30px] shrink-0 items-center justify-between gap-3 border-b border-line bg-paper/60 px-3.5">
        <span className="flex items-center gap-3">
          <h2 className="caps">Preview</h2>
          {inputs.length > 0 && <SampleChoice inputs={inputs} preview={preview} />}
        </span>
        <span className="truncate text-[12px] text-soft">
          {running ? (
            <>
              running …{' '}
              <Button tone="quiet" onClick={preview.stop}>
                Stop
              </Button>
            </>
          ) : (
            rows && (
              <>
                <PreviewFigures rows={rows} /> ·{' '}
                <button type="button" className="text-plan underline underline-offset-2" onClick={() => setShowing(true)}>
                  SQL that ran
                </button>
              </>
            )
          )}
        </span>
      </div>
      <div className="min-h-0 flex-1">
        {running && !rows ? (
          <Loading what="Running the query in the warehouse" />
        ) : problem && !running ? (
          <div className="flex h-full flex-col gap-3 overflow-auto p-3">
            <ProblemNote problem={problem} />
            {failed?.rows && <FaultGrid title="Rows that stop the query" about={table} rows={failed.rows} atFault={failed.rows.rows.length} />}
          </div>
        ) : rows ? (
          rows.rows.length ? (
            <Grid label={`Rows of ${table}`} columns={rows.columns} rows={rows.rows} />
          ) : (
            <Empty title="The query returns no row">
              <p>{rows.columns.length} columns, all of them empty. Look at the conditions and joins above.</p>
            </Empty>
          )
        ) : (
          <Empty title="Nothing previewed yet">
            <p>Ctrl Enter, or Preview, runs the query as it is written, drafts upstream included. Nothing is built and nothing is kept.</p>
          </Empty>
        )}
      </div>
    </div>
  );
}

export function PreviewFigures({ rows }: { rows: Rows }) {
  const shown = rows.rows.length;
  const all =
    rows.total === null
      ? `first ${count(shown)} rows, more not counted`
      : rows.total === shown
        ? shown === 1
          ? 'all 1 row'
          : `all ${count(shown)} rows`
        : `first ${count(shown)} of ${count(rows.total)} rows`;
  return (
    <>
      {all}, {duration(rows.milliseconds)}
      {rows.isFull && <span title="Values are long; more rows would not fit into one answer.">, as many as one answer holds</span>}
      {rows.sampled && <span className="text-advisory-text">, from a sample of {rows.sampled}</span>}
      {rows.inlined.length > 0 && (
        <span title={`Not built in this workspace, so their queries were put in: ${rows.inlined.join(', ')}`}>, from drafts of {rows.inlined.join(', ')}</span>
      )}
    </>
  );
}
