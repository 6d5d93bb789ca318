import { Injectable } from '@nestjs/common';
import type { FaultRows } from '@ouvrage/api/rows';
import type { StepError } from '@ouvrage/api/run';
import {
  type CheckNames,
  checkDigests,
  queryCheck,
  queryCheckStatements,
  tableChecks,
  verdictOf,
} from '@ouvrage/core/check';
import { compileText, type LoadStatement } from '@ouvrage/core/compile';
import { functionsOf } from '@ouvrage/core/graph';
import { type LoadPlan, type PlanContext, SESSION_SETTINGS, targetPlace } from '@ouvrage/core/load';
import type { Environment, Project, Table } from '@ouvrage/core/model';
import { lineColumn, qualified } from '@ouvrage/core/sql';
import { type CheckOutcome, countedOutcomes } from '../load/check-outcome.js';
import { Loader, type NextOfLoad } from '../load/loader.js';
import { Problem } from '../shared/problem.js';
import type { Clock } from '../warehouse/loaded.js';
import { FAULT_ROWS } from '../warehouse/statements.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { ClockService } from './clock.service.js';
import type { BaseSurroundings } from './load-base.js';
import { checkLongDates } from './reference-dates.js';
import { clockOffset, currentTime } from '../shared/time.js';

/** How far a clock may be behind the last load: clocks are set, and nothing shows. */
const CLOCK_SLACK_MILLISECONDS = 60_000;

/** When a load takes place. */
export interface LoadTime {
  readonly clock: Clock;
  readonly plan: Pick<PlanContext, 'time' | 'lastTime'>;
}

/** What a run's build and a release's build share: one table made beside and checked, one file of checks, the times of loads. */
@Injectable()
export class BuildKit {
  constructor(
    private readonly clock: ClockService,
    private readonly warehouse: WarehouseService,
  ) {}

  /** What may stop a load in production once its rows are made and its checks hold; registered by the modules that know it. */
  readonly stops: ((table: Table, rows: number) => Promise<StepError | undefined>)[] = [];

  /** Why a load stops though its checks hold; undefined where it goes on. */
  async stopOf(environment: Environment, table: Table, rows: string | null): Promise<StepError | undefined> {
    if (environment.kind !== 'production' || rows === null) return undefined;
    for (const stop of this.stops) {
      const found = await stop(table, Number(rows));
      if (found) return found;
    }
    return undefined;
  }

  /** The project's functions that tables and files of checks use, in the environment's own schema. */
  async makeFunctions(
    { project, environment }: { readonly project: Project; readonly environment: Environment },
    tables: Iterable<string>,
    checks: Iterable<string> = [],
  ): Promise<void> {
    const names = {
      placeOf: (t: string) => targetPlace(environment, project.tables.get(t)!),
      functionsSchema: environment.schemaOf('functions'),
    };
    const functions = functionsOf(
      project,
      tables,
      [...checks].flatMap((name) => project.checks.get(name)?.query ?? []),
    );
    await this.warehouse.makeFunctions(environment, project, functions, names);
  }

  /**
   * When loads take place: by the clock that a table was first loaded with, and always later than its last load.
   * @throws Problem, when asked of a table, where that clock has gone back since
   */
  async loadTimes(project: Project, { here, released }: BaseSurroundings): Promise<(table: string) => LoadTime> {
    const harbour = await this.clock.harbour();
    const clockOf = await this.clock.clocks(project);
    return (table) => {
      const last = here.get(table) ?? released.loaded.get(table);
      const clock = harbour === undefined ? 'real' : (last?.clock ?? clockOf(table));
      const now = clock === 'stand-in' ? harbour! : currentTime();
      if (last?.loadTime !== undefined && Date.parse(last.loadTime) - now.getTime() > CLOCK_SLACK_MILLISECONDS)
        throw new Problem(
          409,
          'clock-behind',
          `${table} was last loaded at ${last.loadTime}, and the ${clock === 'real' ? 'real' : 'demo'} clock says ${now.toISOString()}`,
          'Correct the clock, or start the table over.',
        );
      return {
        clock,
        plan: {
          ...(clock === 'stand-in' || clockOffset() !== 0 ? { time: now.toISOString() } : {}),
          ...(last?.loadTime === undefined ? {} : { lastTime: last.loadTime }),
        },
      };
    };
  }

  /** Makes one table beside and runs its checks; shared with releases, where all swaps come last. */
  async makeAndCheck(
    loader: Loader,
    plan: LoadPlan,
    project: Project,
    next: NextOfLoad,
  ): Promise<{ plan: LoadPlan; rows: string | null; checks: CheckOutcome[] }> {
    const table = project.tables.get(plan.table)!;
    const csv = table.kind === 'reference' ? project.files.get(table.csvPath)!.text : undefined;
    if (table.kind === 'reference') await checkLongDates(table, csv!);
    const made = await loader.makeStaged(plan, { next, ...(csv === undefined ? {} : { csv }) });
    const digests = checkDigests(project);
    return { ...made, checks: made.checks.map((c) => ({ ...c, says: digests.get(c.id)! })) };
  }

  /**
   * Runs checks of a table's contract over the table as it is.
   * @param ids of the checks; all of the contract where undefined
   */
  async checkTable(
    loader: Loader,
    { project, table, ids }: { readonly project: Project; readonly table: Table; readonly ids?: ReadonlySet<string> },
    names: CheckNames,
  ): Promise<CheckOutcome[]> {
    let outcomes: CheckOutcome[] = [];
    const asked = tableChecks(project, table, names, { limit: FAULT_ROWS, ...(ids ? { ids } : {}) });
    const digests = checkDigests(project);
    await this.onlyReading(loader, async () => {
      const counts = (await loader.run({ kind: 'check', sql: asked.count })).rows[0] as Record<string, string>;
      outcomes = await countedOutcomes(asked.checks, counts, {
        find: (check) => loader.faultRows(asked.rowsOf(check)),
        kept: (check) => asked.rowsOf(check),
      });
    });
    return outcomes.map((o) => ({ ...o, says: digests.get(o.id)! }));
  }

  /** What is done is taken back with a savepoint, as nothing else can make a transaction write again. */
  private async onlyReading(loader: Loader, work: () => Promise<void>): Promise<void> {
    await loader.run({
      kind: 'session',
      sql: [...SESSION_SETTINGS, 'savepoint before_check', 'set local transaction_read_only = on'].join(';\n'),
    });
    await work();
    await loader.run({ kind: 'session', sql: 'rollback to savepoint before_check' });
  }

  /** Runs one file of checks/; shared with releases. */
  async checkFile(loader: Loader, project: Project, name: string, names: CheckNames): Promise<CheckOutcome> {
    const file = project.checks.get(name)!;
    refuseEffects(project, file.path);
    const check = queryCheck(file);
    const compiled = compileText(project.files.get(file.path)!, file.query, file.query, names);
    const sql = queryCheckStatements(compiled.text, FAULT_ROWS);
    const head = sql.count.indexOf(compiled.text);
    let atFault = '0';
    let total: string | null = null;
    let rows: FaultRows | null = null;
    await this.onlyReading(loader, async () => {
      const ask = async (statement: LoadStatement) =>
        (await loader.run(statement)).rows[0] as { readonly c0: string; readonly total: string };
      atFault = (
        await ask({
          kind: 'check',
          sql: sql.count,
          author: { path: file.path, original: (o) => compiled.original(Math.max(0, o - head)) },
        })
      ).c0;
      if (atFault === '0') return;
      if (check.about !== undefined)
        ({ total } = await ask({
          kind: 'check',
          sql: `select count(*) as total from ${qualified(names.placeOf(check.about))}`,
        }));
      rows = await loader.faultRows(sql.rows);
    });
    return {
      id: check.id,
      table: check.about ?? check.reads[0] ?? '',
      verdict: verdictOf(check, Number(atFault), total === null ? undefined : Number(total)),
      atFault,
      total,
      sql: sql.rows,
      rows,
      says: checkDigests(project).get(check.id)!,
    };
  }
}

/** @throws Problem for a file in which something does more than read: it is not run */
export function refuseEffects(project: Project, path: string): void {
  const found = project.diagnostics.find((d) => d.code === 'not-only-reading' && d.path === path);
  if (!found) return;
  const { line } = lineColumn(project.files.get(path)!.text, found.range.start);
  throw new Problem(422, 'not-only-reading', `${path}, line ${line}: ${found.message}`, found.hint);
}
