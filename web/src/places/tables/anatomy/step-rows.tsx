import type { AnatomyStep } from '@ouvrage/api/anatomy';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { PreviewSample, Rows } from '@ouvrage/api/rows';
import type { FigureName, StepLook } from '@ouvrage/core/anatomy';
import { useEffect, useState } from 'react';
import { useStepRowsMutation } from '../../../data/anatomy';
import { useProject } from '../../../data/project';
import { count } from '../../../shared/format';
import { Grid } from '../../../shared/grid';
import { Empty } from '../../../shared/ui/empty';
import { Loading } from '../../../shared/ui/loading';
import { ProblemNote } from '../../../shared/ui/problem-note';
import { PREVIEW_ROWS } from '../use-preview';
import { LiftButton } from './lift-button';
import { figureOf, type Strip } from './strip';

const LOOKS: Readonly<Record<StepLook['name'], { readonly label: string; readonly figure: FigureName }>> = {
  rows: { label: 'rows after', figure: 'rows' },
  keys: { label: 'keys that multiply', figure: 'leftKeys' },
  leftRows: { label: 'their rows, left', figure: 'leftSeveral' },
  rightRows: { label: 'their rows, right', figure: 'rightPartners' },
  leftAlone: { label: 'left alone', figure: 'leftAlone' },
  rightAlone: { label: 'right alone', figure: 'rightAlone' },
  unknown: { label: 'unknown', figure: 'unknown' },
};

/** Steps that can become definitions of their own. */
const LIFTED: ReadonlySet<string> = new Set(['join', 'filter', 'group', 'stack', 'window', 'limit', 'source']);

/** The rows of a step, and those that it loses or multiplies. */
export function StepRows({
  path,
  text,
  sample,
  strip,
  step,
  n,
  table,
}: {
  /** The definition whose query it is; without one nothing can be lifted. */
  table: string | undefined;
  path: string;
  /** The text whose steps were counted. */
  text: string;
  sample: PreviewSample | undefined;
  strip: Strip;
  step: AnatomyStep;
  n: number;
}) {
  const multiplies = (figureOf(strip, step, 'leftKeys') ?? 0) > 0;
  const [chosen, choose] = useState<StepLook['name']>(multiplies ? 'keys' : 'rows');
  const look = step.looks.includes(chosen) ? chosen : 'rows';
  const { rows, problem, running } = useStepRows({ path, text, sample, step: step.id, look });
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="flex min-h-8 shrink-0 flex-wrap items-center gap-x-3 gap-y-1 border-b border-line bg-paper/60 px-3.5 py-1">
        <h3 className="shrink-0 font-semibold">
          Step {n}: {step.kind}
        </h3>
        <span className="min-w-0 flex-1 truncate font-mono text-small text-soft" title={step.label}>
          {step.key?.length ? `by ${step.key.join(', ')}` : step.label}
        </span>
        {table !== undefined && LIFTED.has(step.kind) && <LiftButton table={table} step={step} />}
        <div role="group" aria-label="Which rows" className="flex flex-wrap gap-1.5">
          {step.looks
            .filter((name) => name === 'rows' || figureOf(strip, step, LOOKS[name].figure) !== 0)
            .map((name) => (
              <LookChip
                key={name}
                label={name === 'leftRows' && !step.key?.length ? 'rows that meet several' : LOOKS[name].label}
                figure={figureOf(strip, step, LOOKS[name].figure)}
                isChosen={look === name}
                onChoose={() => choose(name)}
              />
            ))}
        </div>
      </div>
      <div className="min-h-0 flex-1">
        {step.looks.length === 0 ? (
          <Empty title="This step has no rows of its own" />
        ) : running ? (
          <Loading what="Reading the rows of this step" />
        ) : problem ? (
          <div className="overflow-auto p-3">
            <ProblemNote problem={problem} />
          </div>
        ) : rows?.rows.length ? (
          <Grid label={`Rows of step ${n}`} columns={rows.columns} rows={rows.rows} />
        ) : rows ? (
          <Empty title="No such rows" />
        ) : null}
      </div>
    </div>
  );
}

function LookChip({
  label,
  figure,
  isChosen,
  onChoose,
}: {
  label: string;
  figure: number | undefined;
  isChosen: boolean;
  onChoose: () => void;
}) {
  return (
    <button
      type="button"
      aria-pressed={isChosen}
      onClick={onChoose}
      className={`h-6 rounded-edge border px-1.5 text-small font-medium whitespace-nowrap ${isChosen ? 'border-plan bg-wash text-plan' : 'border-rule bg-raised text-soft hover:text-ink'}`}
    >
      {label} {figure !== undefined && <span className="font-mono">{count(figure)}</span>}
    </button>
  );
}

/** Rows of a step, asked of the warehouse; a newer question ends the one before. */
function useStepRows({
  path,
  text,
  sample,
  step,
  look,
}: {
  path: string;
  text: string;
  sample: PreviewSample | undefined;
  step: string;
  look: StepLook['name'];
}): { readonly rows?: Rows; readonly problem?: ProblemBody; readonly running: boolean } {
  const { slug } = useProject();
  const [ask] = useStepRowsMutation();
  const [result, setResult] = useState<{ rows?: Rows; problem?: ProblemBody; running: boolean }>({ running: true });
  useEffect(() => {
    setResult({ running: true });
    const request = ask({ slug, path, text, step, look, limit: PREVIEW_ROWS, ...(sample ? { sample } : {}) });
    request
      .unwrap()
      .then((rows) => setResult({ rows, running: false }))
      .catch((error: ProblemBody & { name?: string }) => {
        if (error.name !== 'AbortError') setResult({ problem: error, running: false });
      });
    return () => request.abort();
  }, [ask, slug, path, text, sample, step, look]);
  return result;
}
