import { Injectable, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { reachable, readersOf } from '@ouvrage/core/graph';
import { sensitiveColumns } from '@ouvrage/core/lineage';
import { isView, optionOf } from '@ouvrage/core/language';
import { targetPlace } from '@ouvrage/core/load';
import type { Definition, Project, Table } from '@ouvrage/core/model';
import { instantOfWatermark, type MeasuredColumn, measuring } from '@ouvrage/core/watch';
import { Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { Release, Run, RunStep } from '../run/run.entities.js';
import type { StepError } from '@ouvrage/api/run';
import { BuildKit } from '../run/build-kit.js';
import { ClockService } from '../run/clock.service.js';
import { RunService } from '../run/run.service.js';
import { logger } from '../shared/problem.js';
import { SourceStateService } from '../source/source-state.service.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { WatchService } from './watch.service.js';
import { currentTime } from '../shared/time.js';

/** A measuring that takes longer is given up: it is never what a run waits for. */
const LIMIT_MILLISECONDS = 3000;

/** All views over what a run has loaded are measured once, each within a share of the run's time. */
const VIEW_SHARE = 0.05;
const LEAST_OF_VIEW_MILLISECONDS = 50;
/** PostgreSQL's codes where a view cannot be measured: it takes too long, or was never made. */
const NOT_MEASURED = ['57014', '42P01'];

/** Measures the tables that a run in production has loaded, once it has ended. */
@Injectable()
export class WatchFollower implements OnModuleInit {
  constructor(
    @InjectRepository(Run) private readonly runs: Repository<Run>,
    @InjectRepository(RunStep) private readonly steps: Repository<RunStep>,
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    private readonly watches: WatchService,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly sources: SourceStateService,
    private readonly clock: ClockService,
    private readonly work: RunService,
    private readonly kit: BuildKit,
  ) {}

  onModuleInit(): void {
    this.work.afterRun.push((id) => this.follow(id));
    this.kit.stops.push((table, rows) => this.stop(table, rows));
  }

  /** A load with `stop_on = rows` whose number of rows would be told of does not get through. */
  private async stop(table: Table, rows: number): Promise<StepError | undefined> {
    if (optionOf(table, 'stop_on') !== 'rows') return undefined;
    const expected = await this.watches.unusualRows(table.fullName, rows);
    if (!expected) return undefined;
    const [least, greatest] = [Math.ceil(expected.least), Math.floor(expected.greatest)].map((n) =>
      n.toLocaleString('en'),
    );
    return {
      message: `${rows.toLocaleString('en')} rows are unusual: ${least} to ${greatest} are expected`,
      hint: 'The table is unchanged. If the rows are right, ignore them under Quality until a day, and run it again.',
    };
  }

  private async follow(id: number): Promise<void> {
    const run = await this.runs.findOneByOrFail({ id });
    if (run.environment !== PRODUCTION || run.kind === 'check') return;
    if (run.kind === 'release') {
      if (run.state !== 'succeeded') return;
      const release = await this.releases.findOneBy({ runId: id });
      return this.watches.restart(release?.tables ?? [], run.person);
    }
    // A repeated run, or one over rows of another time, says nothing of what is usual.
    if (run.continues !== null || run.request.startOver?.length || run.request.limit !== undefined) return;
    const done = await this.steps.find({ where: { run: { id }, state: 'done' }, order: { position: 'ASC' } });
    const { project } = await this.projects.line(PRODUCTION);
    const sensitive = sensitiveColumns(project);
    for (const step of done) {
      const table = project.tables.get(step.table);
      if (!table || step.kind === 'check' || (table.kind === 'definition' && isView(table))) continue;
      const hidden = new Set(sensitive.get(table.fullName)?.keys() ?? []);
      await this.measure(project, table, { run, step, hidden }).catch((error: unknown) => logger.warn(error));
    }
    const duration = run.startedAt && run.finishedAt ? run.finishedAt.getTime() - run.startedAt.getTime() : 0;
    const limit = Math.min(LIMIT_MILLISECONDS, Math.max(LEAST_OF_VIEW_MILLISECONDS, VIEW_SHARE * duration));
    const loaded = done.filter((s) => s.kind !== 'check').map((s) => s.table);
    for (const view of viewsOver(project, loaded)) {
      const hidden = new Set(sensitive.get(view.fullName)?.keys() ?? []);
      await this.measureView(project, view, { run, hidden, limit }).catch((error: unknown) => logger.warn(error));
    }
  }

  /** Measures a view whole, as it has no blocks to sample; not where that takes too long. */
  private async measureView(
    project: Project,
    view: Definition,
    { run, hidden, limit }: { readonly run: Run; readonly hidden: ReadonlySet<string>; readonly limit: number },
  ): Promise<void> {
    const columns = measuredColumns(project, view, hidden);
    const place = targetPlace(this.projects.environmentOf(undefined), view);
    const asked = measuring(columns, place, { rows: 0, milliseconds: 0 });
    const found = await this.ask(asked.sql, limit).catch((error: unknown) => {
      if (NOT_MEASURED.includes((error as { code?: string }).code ?? '')) return undefined;
      throw error;
    });
    if (!found) return;
    const rows = Number(found[0]);
    const at = run.finishedAt ?? currentTime();
    const values = { rows, ...valuesOf(asked.names, found) };
    await this.watches.keep({ table: view.fullName, run: run.id, at, isSampled: false, values }, { ...asked, rows });
  }

  /** Answers a measuring in production, within a time. */
  private ask(sql: string, limit: number): Promise<Answer> {
    const environment = this.projects.environmentOf(undefined);
    return this.warehouse.transaction(this.warehouse.builder(environment), async (client) => {
      await client.query(`set local transaction_read_only = on; set local statement_timeout = ${Math.ceil(limit)}`);
      const { rows } = await client.query<(string | null)[]>({ text: sql, rowMode: 'array' });
      return rows[0]!;
    });
  }

  private async measure(
    project: Project,
    table: Table,
    { run, step, hidden }: { readonly run: Run; readonly step: RunStep; readonly hidden: ReadonlySet<string> },
  ): Promise<void> {
    const environment = this.projects.environmentOf(undefined);
    const rows = Number(step.rowsIn ?? 0);
    const columns = measuredColumns(project, table, hidden);
    const milliseconds = step.startedAt && step.finishedAt ? step.finishedAt.getTime() - step.startedAt.getTime() : 0;
    const asked = measuring(columns, targetPlace(environment, table), { rows, milliseconds });
    const found = await this.ask(asked.sql, LIMIT_MILLISECONDS);
    const looked = { ...asked, rows: Number(found[0]) };
    const changes = changesOf(step);
    // A first load adds all of a table, which is not what later ones add.
    const values: Record<string, number> = {
      rows,
      ...(changes['added'] === rows ? {} : changes),
      ...valuesOf(asked.names, found),
    };
    const age = table.kind === 'source' ? await this.age(table.fullName) : undefined;
    if (age !== undefined) values['age'] = age;
    const at = step.finishedAt ?? currentTime();
    await this.watches.keep({ table: table.fullName, run: run.id, at, isSampled: asked.isSampled, values }, looked);
  }

  /** Seconds since the newest watermark of a source table, if that is a time. */
  private async age(table: string): Promise<number | undefined> {
    const newest = instantOfWatermark((await this.sources.of(PRODUCTION)).get(table)?.newest ?? '');
    const now = (await this.clock.harbour()) ?? currentTime();
    return newest && Math.max(0, (now.getTime() - newest.getTime()) / 1000);
  }
}

/** What a measuring was answered, in the order of its names. */
type Answer = readonly (string | null)[];

/** Values by the measure's name, those that are none left out; the number of rows looked at is no measure. */
function valuesOf(names: readonly string[], found: Answer): Record<string, number> {
  const values = names.flatMap((name, i): [string, number][] => {
    const value = found[i];
    return i === 0 || value === null || !Number.isFinite(Number(value)) ? [] : [[name, Number(value)]];
  });
  return Object.fromEntries(values);
}

const measuredColumns = (project: Project, table: Table, hidden: ReadonlySet<string>): MeasuredColumn[] =>
  (project.columns.get(table.fullName) ?? []).flatMap(({ name, type }) =>
    type === undefined ? [] : [{ name, type, isSensitive: hidden.has(name) }],
  );

/** Views that show rows of tables, directly or through other views. */
function viewsOver(project: Project, tables: readonly string[]): Definition[] {
  const views = new Map(
    [...project.tables.values()].flatMap((t) => (t.kind === 'definition' && isView(t) ? [[t.fullName, t]] : [])),
  );
  const readers = new Map(
    [...readersOf(project.reads)].map(([name, of]) => [name, [...of].filter((r) => views.has(r))]),
  );
  return [...reachable(readers, tables).keys()].flatMap((name) => views.get(name) ?? []);
}

/** Rows added, changed and removed by a load, as far as it counted them. */
function changesOf({ kind, counts, rowsOut }: RunStep): Record<string, number> {
  if (kind === 'intake') return rowsOut === null ? {} : { added: Number(rowsOut) };
  const sum = (...names: readonly string[]) =>
    names.some((n) => counts?.[n] !== undefined) ? names.reduce((s, n) => s + (counts?.[n] ?? 0), 0) : undefined;
  const [added, changed, removed] = [sum('inserted'), sum('updated', 'replaced', 'closed'), sum('deleted', 'flagged')];
  return {
    ...(added === undefined ? {} : { added }),
    ...(changed === undefined ? {} : { changed }),
    ...(removed === undefined ? {} : { removed }),
  };
}
