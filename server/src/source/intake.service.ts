import { Injectable, type OnModuleInit } from '@nestjs/common';
import { fingerprints, planIntake, sourceCopy, type Environment, type Project, type SourceTable } from '@ouvrage/core';
import type pg from 'pg';
import { from as copyFrom, to as copyTo } from 'pg-copy-streams';
import { pipeline } from 'node:stream/promises';
import type { Person } from '../people/people.entities.js';
import { PRODUCTION, ProjectService } from '../project/project.service.js';
import { BuildService } from '../run/build.service.js';
import type { Run, RunStep } from '../run/run.entities.js';
import { RunService } from '../run/run.service.js';
import { Problem } from '../shared/problem.js';
import { Loader, StatementFailed } from '../warehouse/loader.js';
import { stepError } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { ConnectionService } from './connection.service.js';

/** Brings source tables into their landing tables by streaming COPY out of one database into the other. */
@Injectable()
export class IntakeService implements OnModuleInit {
  constructor(
    private readonly runs: RunService,
    private readonly build: BuildService,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly connections: ConnectionService,
  ) {}

  onModuleInit(): void {
    this.runs.register('intake', (run, steps, signal) => this.work(run, steps, signal));
  }

  /** Asks for the intake of source tables; an empty list means all of them. */
  async ask(person: Person, slug: string, tables: readonly string[]): Promise<Run> {
    const line = await this.projects.line(slug);
    const sources = [...line.project.tables.values()].filter((t) => t.kind === 'source' && t.server !== 'warehouse').map((t) => t.fullName);
    const unknown = tables.filter((t) => !sources.includes(t));
    if (unknown.length) throw new Problem(404, 'not-found', `There is no source table ${unknown.join(', ')}`);
    const chosen = tables.length ? sources.filter((s) => tables.includes(s)) : sources;
    if (chosen.length === 0) throw new Problem(409, 'nothing-to-run', 'The project has no source table');
    const drafts = Object.fromEntries(line.drafts.map((d) => [d.path, d.text]));
    return this.runs.queue(
      person,
      'intake',
      slug,
      line.commit,
      { tables, upstream: false, downstream: false, parallelism: 2, parameters: {}, drafts },
      chosen.map((name) => ({ kind: 'intake', name, waitsFor: [], reused: false })),
    );
  }

  private async work(run: Run, steps: RunStep[], signal: AbortSignal): Promise<'succeeded' | 'failed' | 'stopped'> {
    const project = await this.projects.projectAt(run.commit, run.request.drafts);
    const environment = this.projects.environmentOf(run.environment === PRODUCTION ? undefined : await this.projects.workspace(run.environment));
    await this.warehouse.prepare(
      environment,
      project.layers.map((l) => l.name),
    );
    const waiting = steps.filter((s) => s.state === 'waiting');
    let failed = false;
    const worker = async (): Promise<void> => {
      for (let step = waiting.shift(); step; step = waiting.shift()) {
        if (signal.aborted) {
          await this.build.end(run, step, { state: 'stopped' });
          continue;
        }
        if (!(await this.bringIn(run, project, environment, step, signal))) failed = true;
      }
    };
    await Promise.all(Array.from({ length: run.request.parallelism }, worker));
    return signal.aborted ? 'stopped' : failed ? 'failed' : 'succeeded';
  }

  /** One table: beside, then swapped in; a failure leaves the landing table as it was. */
  private async bringIn(run: Run, project: Project, environment: Environment, step: RunStep, signal: AbortSignal): Promise<boolean> {
    const table = project.tables.get(step.table) as SourceTable;
    await this.build.begin(run, step);
    const role = this.warehouse.builder(environment);
    const client = await this.warehouse.connect(role);
    const loader = new Loader(client);
    let source: pg.Client | undefined;
    const stop = () => {
      void this.warehouse.cancel(role, client);
      void source?.end().catch(() => undefined);
    };
    signal.addEventListener('abort', stop);
    try {
      source = await this.connections.open(table.server);
      await client.query('begin');
      const rows = await this.copy(source, client, loader, environment, table);
      await this.warehouse.remember(client, environment, table.fullName, fingerprints(project).get(table.fullName)!, rows.in, run.id);
      await client.query('commit');
      client.release();
      await this.build.end(run, step, { state: 'done', statements: loader.ran, rowsOut: rows.out, rowsIn: rows.in });
      return true;
    } catch (error) {
      await client.query('rollback').then(
        () => client.release(),
        (broken: Error) => client.release(broken),
      );
      const cause = error instanceof StatementFailed ? error.cause : error;
      const told = signal.aborted
        ? { message: 'stopped; the landing table is as it was' }
        : cause instanceof Problem
          ? { message: cause.title, ...(cause.detail ? { detail: cause.detail } : {}) }
          : stepError(cause, project);
      await this.build.end(run, step, { state: signal.aborted ? 'stopped' : 'failed', statements: loader.ran, error: { ...told, path: table.path } });
      return false;
    } finally {
      signal.removeEventListener('abort', stop);
      await source?.end().catch(() => undefined);
    }
  }

  /** @returns rows that left the source and rows that arrived */
  private async copy(
    source: pg.Client,
    client: pg.PoolClient,
    loader: Loader,
    environment: Environment,
    table: SourceTable,
  ): Promise<{ out: string; in: string }> {
    const plan = planIntake(environment, table);
    await loader.run({ kind: 'build', sql: plan.build });
    await source.query("set timezone = 'UTC'");
    await source.query('begin transaction isolation level repeatable read read only');
    const sql = sourceCopy(table);
    const started = performance.now();
    const reading = source.query(copyTo(sql));
    const writing = client.query(copyFrom(plan.copySql));
    await pipeline(reading, writing);
    const out = String((reading as unknown as { rowCount: number }).rowCount);
    loader.ran.push({
      kind: 'build',
      sql: `-- in ${table.server}\n${sql};\n-- into the warehouse\n${plan.copySql}`,
      milliseconds: Math.round(performance.now() - started),
      rows: Number(out),
    });
    for (const statement of plan.finish) await loader.run(statement);
    await loader.swap([{ target: plan.target, beside: plan.beside, relation: 'table' }]);
    return { out, in: String(writing.rowCount) };
  }
}
