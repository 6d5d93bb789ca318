import { Injectable, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { sensitiveColumns } from '@ouvrage/core/lineage';
import { isView, optionOf } from '@ouvrage/core/language';
import { targetPlace } from '@ouvrage/core/load';
import type { Project, Table } from '@ouvrage/core/model';
import { measuring } from '@ouvrage/core/watch';
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
  }

  private async measure(
    project: Project,
    table: Table,
    { run, step, hidden }: { readonly run: Run; readonly step: RunStep; readonly hidden: ReadonlySet<string> },
  ): Promise<void> {
    const environment = this.projects.environmentOf(undefined);
    const rows = Number(step.rowsIn ?? 0);
    const columns = (project.columns.get(table.fullName) ?? []).flatMap(({ name, type }) =>
      type === undefined ? [] : [{ name, type, isSensitive: hidden.has(name) }],
    );
    const milliseconds = step.startedAt && step.finishedAt ? step.finishedAt.getTime() - step.startedAt.getTime() : 0;
    const asked = measuring(columns, targetPlace(environment, table), { rows, milliseconds });
    const found = await this.warehouse.transaction(this.warehouse.builder(environment), async (client) => {
      await client.query(`set local transaction_read_only = on; set local statement_timeout = ${LIMIT_MILLISECONDS}`);
      const { rows: answer } = await client.query<(string | null)[]>({ text: asked.sql, rowMode: 'array' });
      return answer[0]!;
    });
    const looked = Number(found[0]);
    const changes = changesOf(step);
    // A first load adds all of a table, which is not what later ones add.
    const values: Record<string, number> = { rows, ...(changes['added'] === rows ? {} : changes) };
    for (const [i, name] of asked.names.entries()) {
      const value = found[i];
      if (i > 0 && value !== null && value !== undefined && Number.isFinite(Number(value)))
        values[name] = Number(value);
    }
    const age = table.kind === 'source' ? await this.age(table.fullName) : undefined;
    if (age !== undefined) values['age'] = age;
    const at = step.finishedAt ?? currentTime();
    await this.watches.keep({ table: table.fullName, run: run.id, at, isSampled: asked.isSampled, values }, looked);
  }

  /** Seconds since the newest watermark of a source table, if that is a time. */
  private async age(table: string): Promise<number | undefined> {
    const newest = Date.parse((await this.sources.of(PRODUCTION)).get(table)?.newest ?? '');
    const now = (await this.clock.harbour()) ?? currentTime();
    return Number.isNaN(newest) ? undefined : Math.max(0, (now.getTime() - newest) / 1000);
  }
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
