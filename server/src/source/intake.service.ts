import { remembering } from '../warehouse/loaded.js';
import { refuseErrors, refuseCondition, isBroughtIn, sameColumns, hasColumn, driftRefused } from './source-rules.js';
import { Injectable, type OnModuleInit } from '@nestjs/common';
import { fingerprints } from '@ouvrage/core/graph';
import {
  boundSql,
  driftOf,
  drifted,
  planIntake,
  withAddedColumns,
  type IntakePlan,
  planInPlace,
  watermarkOf,
} from '@ouvrage/core/intake';
import { SESSION_SETTINGS, targetPlace, type SwapItem } from '@ouvrage/core/load';
import {
  remotePlace,
  type Environment,
  type Place,
  type Project,
  type SourceTable,
  WAREHOUSE_SERVER,
} from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import { ident, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { from as copyFrom } from 'pg-copy-streams';
import { pipeline } from 'node:stream/promises';
import type { Person } from '../people/people.entities.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import type { StepError } from '@ouvrage/api/run';
import type { Run, RunStep } from '../run/run.entities.js';
import { RunService } from '../run/run.service.js';
import { StepJournal } from '../run/step-journal.js';
import { Problem } from '../shared/problem.js';
import { StatementFailed } from '../warehouse/load-errors.js';
import { Loader, loaderOn } from '../load/loader.js';
import { stepError } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { describeTables } from '../connection/catalog.js';
import { ConnectionService } from '../connection/connection.service.js';
import { copyOut } from './copy-out.js';
import { stagedLanding } from './landing.js';
import type { BoundEnvironment } from '@ouvrage/api/connection';
import { SourceStateService } from './source-state.service.js';

/** Rows that left the source, rows that arrived, rows of the landing table, and its greatest watermark. */
interface CopiedRows {
  readonly out: string;
  readonly in: string;
  readonly total: string;
  readonly newest: string | null;
}

/** Brings source tables into their landing tables by streaming COPY out of one database into the other. */
@Injectable()
export class IntakeService implements OnModuleInit {
  constructor(
    private readonly runs: RunService,
    private readonly journal: StepJournal,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly connections: ConnectionService,
    private readonly states: SourceStateService,
  ) {}

  onModuleInit(): void {
    this.runs.register('intake', (run, steps, signal) => this.work(run, steps, signal));
  }

  /** Asks for the intake of source tables; an empty list means all of them. */
  async ask(person: Person, slug: string, tables: readonly string[], limit?: number): Promise<Run> {
    const line = await this.projects.line(slug);
    const sources = [...line.project.tables.values()]
      .filter((t) => t.kind === 'source' && isBroughtIn(line.project, t.server))
      .map((t) => t.fullName);
    const unknown = tables.filter((t) => !sources.includes(t));
    if (unknown.length) throw new Problem(404, 'not-found', `There is no source table ${unknown.join(', ')}`);
    const chosen = tables.length ? sources.filter((s) => tables.includes(s)) : sources;
    if (chosen.length === 0) throw new Problem(409, 'nothing-to-run', 'The project has no source tables');
    const drafts = Object.fromEntries(line.drafts.map((d) => [d.path, d.text]));
    return this.runs.queue(
      person,
      {
        kind: 'intake',
        environment: slug,
        commit: line.commit,
        request: {
          tables,
          upstream: false,
          downstream: false,
          parallelism: 2,
          parameters: {},
          drafts,
          ...(limit === undefined ? {} : { limit }),
        },
      },
      chosen.map((name) => ({ kind: 'intake', name, waitsFor: [], reused: false })),
    );
  }

  private async work(run: Run, steps: RunStep[], signal: AbortSignal): Promise<'succeeded' | 'failed' | 'stopped'> {
    const project = await this.projects.projectAt(run.commit, run.request.drafts);
    const environment = this.projects.environmentOf(
      run.environment === PRODUCTION ? undefined : await this.projects.workspace(run.environment),
    );
    await this.warehouse.prepare(environment, schemaNames(project.layers, project.tables.values()));
    const waiting = steps.filter((s) => s.state === 'waiting');
    let failed = false;
    const worker = async (): Promise<void> => {
      for (let step = waiting.shift(); step; step = waiting.shift()) {
        if (signal.aborted) {
          this.journal.end(run, step, { state: 'stopped' });
          continue;
        }
        if (!(await this.bringIn(run, project, environment, step, signal))) failed = true;
      }
    };
    await Promise.all(Array.from({ length: run.request.parallelism }, worker));
    return signal.aborted ? 'stopped' : failed ? 'failed' : 'succeeded';
  }

  /** One table: beside, then swapped in; a failure leaves the landing table as it was. */
  private async bringIn(
    run: Run,
    project: Project,
    environment: Environment,
    step: RunStep,
    signal: AbortSignal,
  ): Promise<boolean> {
    const table = project.tables.get(step.table) as SourceTable;
    this.journal.begin(run, step);
    const role = this.warehouse.builder(environment);
    let loader: Loader | undefined;
    let source: pg.Client | undefined;
    const stop = () => void source?.end().catch(() => undefined);
    signal.addEventListener('abort', stop);
    const work = async (client: pg.ClientBase): Promise<CopiedRows> => {
      loader = loaderOn(client, environment);
      refuseErrors(project, table);
      source = await this.connections.open(table.server, boundEnvironment(environment));
      const taken = await this.heldAgainstSystem(source, run.environment, table);
      await client.query(['begin', ...SESSION_SETTINGS].join(';\n'));
      const rows = await this.copy(source, client, loader, environment, taken, run.request.limit);
      await client.query(
        remembering(environment, table.fullName, {
          fingerprint: fingerprints(project).get(table.fullName)!,
          rows: rows.total,
          runId: run.id,
        }),
      );
      await client.query('commit');
      return rows;
    };
    try {
      const rows = await this.warehouse.session(role, work, signal);
      await this.warehouse.remake(loader!.swaps.gone);
      await this.states.broughtIn(run.environment, table.fullName, rows.newest);
      this.journal.end(run, step, { state: 'done', statements: loader!.ran, rowsOut: rows.out, rowsIn: rows.in });
      return true;
    } catch (error) {
      const cause = error instanceof StatementFailed ? error.cause : error;
      const told = signal.aborted
        ? { message: 'stopped; the landing table is unchanged' }
        : intakeError(cause, project);
      this.journal.end(run, step, {
        state: signal.aborted ? 'stopped' : 'failed',
        statements: loader?.ran ?? [],
        error: { ...told, path: table.path },
      });
      return false;
    } finally {
      signal.removeEventListener('abort', stop);
      await source?.end().catch(() => undefined);
    }
  }

  /**
   * The table as it is to be brought in, after its declaration was compared with the system.
   * @throws Problem where they differ in a way that the table's `drift` option does not take
   */
  private async heldAgainstSystem(source: pg.Client, environment: string, table: SourceTable): Promise<SourceTable> {
    const place = remotePlace(table);
    const [actual] = await describeTables(source, [place]);
    if (!actual) {
      throw new Problem(
        409,
        'source-missing',
        `${table.server} has no table ${place.schema}.${place.name} that the connection can read`,
        'Correct schema_name and table_name, or request access to it.',
      );
    }
    const drift = driftOf(table, actual);
    await this.states.compared(environment, table.fullName, drifted(drift) ? drift : null);
    const policy = table.contract.options.get('drift')?.value ?? 'stop';
    const refused = driftRefused(drift, policy);
    if (refused)
      throw new Problem(
        409,
        'drifted',
        `${table.fullName} and ${place.schema}.${place.name} in ${table.server} differ: ${refused}`,
        'Compare them under Sources and update the declaration, or set the option drift.',
      );
    return policy === 'add' ? withAddedColumns(table, drift.added) : table;
  }

  private async copy(
    source: pg.Client,
    client: pg.ClientBase,
    loader: Loader,
    environment: Environment,
    table: SourceTable,
    limit: number | undefined,
  ): Promise<CopiedRows> {
    if (table.server === WAREHOUSE_SERVER) {
      const item = await this.stagedView(loader, environment, table);
      await loader.swaps.swap([item]);
      return this.seen(client, table, item.target);
    }
    const past = await this.reached(client, loader, environment, table);
    const plan = planIntake(environment, table, { past, limit });
    const copied = await this.stagedCopy(source, client, loader, plan, table.server);
    for (const statement of plan.finish) await loader.run(statement);
    if (plan.swaps) await loader.swaps.swap([{ target: plan.target, staged: plan.staged, relation: 'table' }]);
    return { ...copied, ...(await this.totals(client, table, plan.target)) };
  }

  /**
   * All rows of a source table, copied beside its landing table with its key: for a release, which
   * swaps it in together with all else. @throws Problem, or what the databases say
   */
  async bringStaged(
    client: pg.ClientBase,
    loader: Loader,
    environment: Environment,
    table: SourceTable,
  ): Promise<BroughtStaged> {
    refuseCondition(table);
    const source = await this.connections.open(table.server, boundEnvironment(environment));
    try {
      const held = await this.heldAgainstSystem(source, PRODUCTION, table);
      if (held.server === WAREHOUSE_SERVER) {
        const item = await this.stagedView(loader, environment, held);
        return { item, ...(await this.seen(client, held, item.staged)) };
      }
      const plan = planIntake(environment, held);
      const copied = await this.stagedCopy(source, client, loader, plan, table.server);
      for (const statement of plan.finish) await loader.run(statement);
      return {
        item: { target: plan.target, staged: plan.staged, relation: 'table' },
        ...copied,
        ...(await this.totals(client, table, plan.staged)),
      };
    } finally {
      await source.end().catch(() => undefined);
    }
  }

  /** A table of the warehouse itself is read where it is, through a view under its declared names. */
  private async stagedView(loader: Loader, environment: Environment, table: SourceTable): Promise<SwapItem> {
    const { target, staged, build, finish } = planInPlace(environment, table);
    await loader.run({ kind: 'build', sql: build });
    for (const statement of finish) await loader.run(statement);
    return { target, staged, relation: 'view' };
  }

  /** Rows that are seen through a view: none of them moved. */
  private async seen(client: pg.ClientBase, table: SourceTable, place: Place): Promise<Omit<BroughtStaged, 'item'>> {
    const totals = await this.totals(client, table, place);
    return { out: totals.total, in: totals.total, ...totals };
  }

  private async stagedCopy(
    source: pg.Client,
    client: pg.ClientBase,
    loader: Loader,
    plan: IntakePlan,
    server: string,
  ): Promise<{ out: string; in: string }> {
    await loader.run({ kind: 'build', sql: plan.build });
    await source.query("set timezone = 'UTC'");
    await source.query('begin transaction isolation level repeatable read read only');
    const started = performance.now();
    const reading = copyOut(source, plan.readSql);
    const writing = client.query(copyFrom(plan.copySql));
    await pipeline(reading, writing);
    const out = String((reading as unknown as { rowCount: number }).rowCount);
    loader.ran.push({
      kind: 'build',
      sql: `-- in ${server}\n${plan.readSql};\n-- into the warehouse\n${plan.copySql}`,
      milliseconds: Math.round(performance.now() - started),
      rows: Number(out),
    });
    return { out, in: String(writing.rowCount) };
  }

  /** Rows of a landing table, and its greatest watermark. */
  private async totals(
    client: pg.ClientBase,
    table: SourceTable,
    place: Place,
  ): Promise<{ total: string; newest: string | null }> {
    const watermark = table.contract.options.get('watermark')?.value;
    const newest = watermark === undefined ? 'null' : `cast(max(${ident(watermark)}) as text)`;
    const { rows } = await client.query<{ total: string; newest: string | null }>(
      `select count(*) as total, ${newest} as newest from ${qualified(place)}`,
    );
    return rows[0]!;
  }

  /** How far an incremental landing table has come; undefined where all rows have to be brought in. */
  private async reached(
    client: pg.ClientBase,
    loader: Loader,
    environment: Environment,
    table: SourceTable,
  ): Promise<string | undefined> {
    const target = targetPlace(environment, table);
    const sql = boundSql(table, target);
    if (sql === undefined || !(await hasColumn(client, target, watermarkOf(table)!))) return undefined;
    if (!(await sameColumns(client, target, table))) {
      // Columns have changed: the rows that landing has stay, and reading goes on past them.
      const item = await stagedLanding(client, loader, environment, table);
      await loader.swaps.swap([item]);
    }
    const { rows } = await client.query<{ past: string | null }>(sql);
    return rows[0]?.past ?? undefined;
  }
}

/** What stopped an intake, in plain words. */
export function intakeError(cause: unknown, project: Project): StepError {
  return cause instanceof Problem
    ? { message: cause.title, ...(cause.detail ? { detail: cause.detail } : {}) }
    : stepError(cause, project);
}

/** A landing table made beside, to be swapped in. */
export interface BroughtStaged {
  readonly item: SwapItem;
  readonly out: string;
  readonly in: string;
  readonly total: string;
  readonly newest: string | null;
}

const boundEnvironment = (environment: Environment): BoundEnvironment =>
  environment.kind === 'production' ? 'production' : 'workspaces';
