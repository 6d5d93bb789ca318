import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { Repository } from 'typeorm';
import type { CheckOutcome } from '../warehouse/check-outcome.js';
import { ProgressService } from './progress.service.js';
import { CheckResult, RunStep, type Run } from './run.entities.js';

/** What is noted within this time is written together. Who watches a run sees it so much later. */
const TOGETHER_MS = 100;

/** What working on a step changes of it. */
const CHANGING = ['state', 'rowsOut', 'rowsIn', 'counts', 'kinds', 'note', 'statements', 'error', 'startedAt', 'finishedAt'] as const;
export type StepChange = Partial<Pick<RunStep, (typeof CHANGING)[number]>>;

/** What was noted of one run and is not yet written. */
interface Notes {
  readonly steps: Set<RunStep>;
  readonly results: Partial<CheckResult>[];
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
    this.note(run, step, { state: 'running', startedAt: new Date() });
  }

  /** @param checks outcomes of checks; they are there when the step's end is */
  end(run: Run, step: RunStep, change: StepChange, checks: readonly CheckOutcome[] = []): void {
    const notes = this.note(run, step, { ...change, finishedAt: new Date() });
    for (const { id, ...outcome } of checks) notes.results.push({ ...outcome, checkId: id, step, environment: run.environment });
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

  private async write(run: Run, { steps, results }: Notes): Promise<void> {
    const { tablePath, columns } = this.steps.metadata;
    const changing = columns.filter((c) => (CHANGING as readonly string[]).includes(c.propertyName)).map((c) => [c.propertyName, c.databaseName] as const);
    const rows = [...steps].map((step) => ({
      id: step.id,
      ...Object.fromEntries(changing.map(([property, column]) => [column, step[property as keyof RunStep] ?? (property === 'statements' ? [] : null)])),
    }));
    await this.steps.manager.transaction(async (manager) => {
      if (results.length) await manager.insert(CheckResult, results as never);
      await manager.query(
        `update ${tablePath} s set ${changing.map(([, c]) => `${c} = c.${c}`).join(', ')}
         from jsonb_populate_recordset(null::${tablePath}, $1) c where s.id = c.id`,
        [JSON.stringify(rows)],
      );
    });
    await this.progress.tell({ run: run.id, environment: run.environment, what: 'changed' });
  }
}
