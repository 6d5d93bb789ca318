import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { Repository } from 'typeorm';
import type { CheckOutcome } from '../load/check-outcome.js';
import { ProgressService } from './progress.service.js';
import { CheckResult, RunStep, type Run } from './run.entities.js';
import { currentTime } from '../shared/time.js';

/** What is noted within this time is written together. Who watches a run sees it so much later. */
const TOGETHER_MS = 200;

/** What working on a step changes of it. */
const CHANGING = [
  'state',
  'rowsOut',
  'rowsIn',
  'counts',
  'kinds',
  'note',
  'statements',
  'error',
  'startedAt',
  'finishedAt',
] as const;
/** What is told of an outcome of a check, its step apart. */
const TOLD = ['environment', 'checkId', 'table', 'verdict', 'atFault', 'total', 'sql', 'rows', 'says'] as const;
type Told = Pick<CheckResult, (typeof TOLD)[number] | 'step'>;
export type StepChange = Partial<Pick<RunStep, (typeof CHANGING)[number]>>;

/** What was noted of one run and is not yet written. */
interface Notes {
  readonly steps: Set<RunStep>;
  readonly results: Told[];
}

/**
 * What became of the steps of runs. It is written beside the work, many steps at a time, so that small tables do
 * not wait for it; `written` waits until all of a run is there, which happens before the run has ended.
 */
@Injectable()
export class StepJournal {
  private readonly noted = new Map<number, Notes>();
  /** The writing that goes on for each run; writings of one run follow each other. */
  private readonly writing = new Map<number, Promise<void>>();

  constructor(
    @InjectRepository(RunStep) private readonly steps: Repository<RunStep>,
    private readonly progress: ProgressService,
  ) {}

  begin(run: Run, step: RunStep): void {
    this.note(run, step, { state: 'running', startedAt: currentTime() });
  }

  /** @param checks outcomes of checks; they are there when the step's end is */
  end(run: Run, step: RunStep, change: StepChange, checks: readonly CheckOutcome[] = []): void {
    const notes = this.note(run, step, { ...change, finishedAt: currentTime() });
    for (const { id, ...outcome } of checks)
      notes.results.push({ says: null, ...outcome, checkId: id, step, environment: run.environment });
  }

  private note(run: Run, step: RunStep, change: StepChange): Notes {
    Object.assign(step, change);
    let notes = this.noted.get(run.id);
    if (!notes) {
      notes = { steps: new Set(), results: [] };
      this.noted.set(run.id, notes);
      // A failure is told to who waits for the run's end.
      setTimeout(() => void this.written(run).catch(() => undefined), TOGETHER_MS);
    }
    notes.steps.add(step);
    return notes;
  }

  /** Resolves when all that was noted of a run is written; rejects if some of it could not be. */
  written(run: Run): Promise<void> {
    const before = this.writing.get(run.id) ?? Promise.resolve();
    const notes = this.noted.get(run.id);
    if (!notes) return before;
    this.noted.delete(run.id);
    const after = before.then(() => this.write(run, notes));
    this.writing.set(run.id, after);
    return after;
  }

  /** The run has ended: nothing more will be noted of it. */
  close(run: Run): void {
    this.writing.delete(run.id);
  }

  /** In one statement: it takes time from the loads that go on beside. */
  private async write(run: Run, { steps, results }: Notes): Promise<void> {
    const [ofStep, ofResult] = [this.columns(RunStep, CHANGING), this.columns(CheckResult, TOLD)];
    const [stepId] = this.columns(CheckResult, ['step']).names;
    await this.steps.manager.query(
      `with results as (
        insert into ${ofResult.table} (${stepId}, ${ofResult.names.join(', ')})
        select ${stepId}, ${ofResult.names.join(', ')} from jsonb_populate_recordset(null::${ofResult.table}, $2)
      )
      update ${ofStep.table} s set ${ofStep.names.map((c) => `${c} = c.${c}`).join(', ')}
      from jsonb_populate_recordset(null::${ofStep.table}, $1) c where s.id = c.id`,
      [
        JSON.stringify([...steps].map((s) => ({ id: s.id, ...ofStep.row(s), statements: s.statements ?? [] }))),
        JSON.stringify(results.map((r) => ({ [stepId!]: r.step.id, ...ofResult.row(r) }))),
      ],
    );
    await this.progress.tell({ run: run.id, environment: run.environment, what: 'changed' });
  }

  /** The table of an entity, the names of some of its columns there, and their values by these names. */
  private columns<E extends object, K extends keyof E & string>(entity: new () => E, properties: readonly K[]) {
    const metadata = this.steps.manager.connection.getMetadata(entity);
    const names = properties.map((p) => metadata.findColumnWithPropertyName(p)!.databaseName);
    return {
      table: metadata.tablePath,
      names,
      row: (of: Readonly<Record<K, unknown>>) =>
        Object.fromEntries(properties.map((p, i) => [names[i]!, of[p] ?? null])),
    };
  }
}
