import { Injectable, type OnApplicationBootstrap, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import {
  besidePlace,
  compareProjects,
  compileFunction,
  fingerprints,
  functionsOf,
  planLoad,
  settingsOf,
  targetPlace,
  worst,
  type Environment,
  type Place,
  type Project,
  type ProjectChange,
  type SourceTable,
  type SwapItem,
} from '@ouvrage/core';
import type pg from 'pg';
import { Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { branchOf, MAIN, PRODUCTION, ProjectService } from '../project/project.service.js';
import { QualityService } from '../quality/quality.service.js';
import { BuildService, brokenError } from '../run/build.service.js';
import { planTables } from '../run/run-plan.js';
import { Release, Run, type RunStep, type StepError } from '../run/run.entities.js';
import { RunService } from '../run/run.service.js';
import { logger, Problem } from '../shared/problem.js';
import { landingBeside } from '../source/delivery.service.js';
import { intakeError, IntakeService } from '../source/intake.service.js';
import { SourceStateService } from '../source/source-state.service.js';
import { Loader, StatementFailed, type CheckOutcome } from '../warehouse/loader.js';
import { stepError } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';

/** Compares a workspace with production, and puts it into production all at once. */
@Injectable()
export class ReleaseService implements OnModuleInit, OnApplicationBootstrap {
  constructor(
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    private readonly projects: ProjectService,
    private readonly runs: RunService,
    private readonly builds: BuildService,
    private readonly warehouse: WarehouseService,
    private readonly quality: QualityService,
    private readonly intake: IntakeService,
    private readonly states: SourceStateService,
  ) {}

  onModuleInit(): void {
    this.runs.register('release', (run, steps, signal) => this.work(run, steps, signal));
  }

  /** A server that died between the warehouse's commit and git's ref left main behind: the warehouse is right. */
  async onApplicationBootstrap(): Promise<void> {
    const main = await this.projects.git.resolve(MAIN);
    const environment = this.projects.environmentOf(undefined);
    const released = await this.warehouse.releasedCommit(environment).catch(() => undefined);
    if (!main || !released || released === main || !(await this.projects.git.isAncestor(main, released).catch(() => false))) return;
    logger.warn(`main is moved to ${released}, which the warehouse holds already`);
    await this.projects.git.moveRef(MAIN, released, main);
  }

  list(): Promise<Release[]> {
    return this.releases.find({ order: { id: 'DESC' }, take: 100 });
  }

  /** A workspace against production: files with both texts, tables, and what stands in the way. */
  async compare(slug: string) {
    const line = await this.projects.line(slug);
    if (!line.workspace) throw new Problem(409, 'is-production', 'Production is what workspaces are compared with', 'Choose a workspace.');
    const production = await this.projects.line(PRODUCTION);
    const committed = await this.committed(slug);
    const change = compareProjects(production.project, committed.project ?? line.project);
    const drafted = compareProjects(production.project, line.project);
    const { checks } = await this.quality.state(slug);
    const touched = new Set(drafted.tables.map((t) => t.table));
    const text = (project: Project, path: string) => project.files.get(path)?.text ?? null;
    return {
      workspace: { slug, name: line.workspace.name, owner: line.workspace.owner.displayName },
      commits: await this.projects.git.log(branchOf(slug), { notIn: MAIN }),
      drafts: line.drafts.map((d) => d.path),
      conflicts: committed.conflicts,
      errors: (committed.project ?? line.project).diagnostics.filter((d) => d.severity === 'error').map((d) => ({ path: d.path, message: d.message })),
      files: drafted.files.map((f) => ({
        ...f,
        draft: line.drafts.some((d) => d.path === f.path),
        before: text(production.project, f.path),
        after: text(line.project, f.path),
      })),
      tables: drafted.tables,
      releases: change.tables.map((t) => t.table),
      untouched: line.project.tables.size - drafted.tables.filter((t) => t.kind !== 'deleted').length,
      checks: checks.filter((c) => touched.has(c.table)),
    };
  }

  /** The project that a release would make, or the files in which it conflicts with production. */
  private async committed(slug: string): Promise<{ project?: Project; conflicts: unknown[] }> {
    try {
      const merged = await this.projects.mergedWithMain(slug);
      const tree = (await this.projects.git.git(['rev-parse', merged.tree])).trim();
      return { project: await this.projects.projectAt(tree), conflicts: [] };
    } catch (error) {
      if (error instanceof Problem && error.code === 'merge-conflict') return { conflicts: error.extra['files'] as unknown[] };
      throw error;
    }
  }

  /** Asks for the release of what a workspace has committed. */
  async ask(person: Person, slug: string, message: string): Promise<Run> {
    const workspace = await this.projects.workspace(slug);
    const drafts = await this.projects.draftsOf(workspace);
    if (drafts.length)
      throw new Problem(
        409,
        'drafts-open',
        `${drafts.length === 1 ? 'One draft is' : `${drafts.length} drafts are`} not committed: ${drafts.map((d) => d.path).join(', ')}`,
        'Commit them or drop them, then release.',
      );
    const merged = await this.projects.mergedWithMain(slug);
    const commit = await this.projects.releaseCommit(person, merged, message);
    const production = await this.projects.line(PRODUCTION);
    const after = await this.projects.projectAt(commit);
    const change = compareProjects(production.project, after);
    if (change.files.length === 0) throw new Problem(409, 'nothing-to-release', 'Production has all of this already', 'Commit a change first.');
    const errors = after.diagnostics.filter((d) => d.severity === 'error');
    if (errors.length)
      throw new Problem(
        422,
        'project-errors',
        `${errors.length === 1 ? 'One error stands' : `${errors.length} errors stand`} in the project`,
        errors
          .slice(0, 5)
          .map((e) => `${e.path}: ${e.message}`)
          .join('; '),
      );
    const environment = this.projects.environmentOf(undefined);
    const standings = await this.warehouse.standings(after, environment, environment);
    const planned = planTables(after, this.tablesToBuild(change, after), standings, false, this.changedChecks(change), this.toBringIn(change, after));
    return this.runs.queue(
      person,
      'release',
      PRODUCTION,
      commit,
      {
        tables: planned.map((p) => p.name),
        upstream: false,
        downstream: false,
        parallelism: 1,
        parameters: {},
        drafts: {},
        release: { workspace: slug, message },
      },
      planned,
    );
  }

  private tablesToBuild(change: ProjectChange, after: Project): Set<string> {
    return new Set(change.tables.filter((t) => t.kind !== 'deleted' && after.tables.get(t.table)?.kind !== 'source').map((t) => t.table));
  }

  /** Source tables that are new or declared otherwise: the release brings them in, so that what reads them can be built. */
  private toBringIn(change: ProjectChange, after: Project): string[] {
    return change.tables.flatMap((t) => {
      const table = after.tables.get(t.table);
      return table?.kind === 'source' && table.server !== 'warehouse' && t.kind !== 'deleted' ? [t.table] : [];
    });
  }

  private changedChecks(change: ProjectChange): string[] {
    return change.files.flatMap((f) => (f.kind !== 'deleted' ? (/^checks\/(?:.*\/)?([^/]+)\.sql$/.exec(f.path)?.[1] ?? []) : []));
  }

  private async work(run: Run, steps: RunStep[], signal: AbortSignal): Promise<'succeeded' | 'failed' | 'stopped'> {
    const main = (await this.projects.git.resolve(MAIN))!;
    if (!(await this.projects.git.isAncestor(main, run.commit)))
      throw new Problem(409, 'production-moved', 'Another release came first', 'Release again: it is compared with production as it is now.');
    const [before, after] = [await this.projects.projectAt(main), await this.projects.projectAt(run.commit)];
    const environment = this.projects.environmentOf(undefined);
    await this.warehouse.prepare(
      environment,
      after.layers.map((l) => l.name),
    );
    const client = await this.warehouse.connect('production');
    const stop = () => void this.warehouse.cancel('production', client);
    signal.addEventListener('abort', stop);
    const release = new ReleaseTransaction(run, before, after, environment, client, this.builds, this.warehouse, this.intake);
    try {
      await client.query('begin');
      const well = await release.build(steps);
      if (!well || signal.aborted) {
        await client.query('rollback');
        await release.recordFailure(steps);
        client.release();
        return signal.aborted ? 'stopped' : 'failed';
      }
      await release.swap();
      await client.query('commit');
      client.release();
    } catch (error) {
      await client.query('rollback').then(
        () => client.release(),
        (broken: Error) => client.release(broken),
      );
      if (signal.aborted) {
        await release.recordFailure(steps);
        return 'stopped';
      }
      throw new Problem(
        500,
        'release-failed',
        'The release could not be put into place; production is as it was',
        error instanceof Error ? error.message : String(error),
      );
    } finally {
      signal.removeEventListener('abort', stop);
    }
    await this.projects.git.moveRef(MAIN, run.commit, main);
    const slug = run.request.release!.workspace;
    const head = await this.projects.git.resolve(branchOf(slug));
    if (head && (await this.projects.git.isAncestor(head, run.commit))) await this.projects.git.moveRef(branchOf(slug), run.commit, head);
    await this.releases.insert({
      commit: run.commit,
      commitBefore: main,
      workspace: slug,
      message: run.request.release!.message,
      person: run.person,
      tables: [...release.built.keys(), ...release.dropped],
      runId: run.id,
    });
    await release.recordSuccess();
    for (const [table, newest] of release.broughtIn) await this.states.broughtIn(PRODUCTION, table, newest);
    return 'succeeded';
  }
}

interface BuiltTable {
  readonly step: RunStep;
  readonly item: SwapItem;
  readonly rows: string | null;
  /** Of a source table: rows that left its system. */
  readonly rowsOut?: string;
  readonly checks: readonly CheckOutcome[];
  readonly loader: Loader;
}

/** One release in one transaction: everything beside, checked, then swapped together. */
class ReleaseTransaction {
  readonly built = new Map<string, BuiltTable>();
  readonly dropped: string[] = [];
  /** Source tables brought in, with their newest watermark. */
  readonly broughtIn = new Map<string, string | null>();
  private failure?: { readonly step: RunStep; readonly loader: Loader; readonly checks: readonly CheckOutcome[]; readonly error?: StepError };
  private readonly checkSteps: { step: RunStep; outcome: CheckOutcome; loader: Loader }[] = [];

  constructor(
    private readonly run: Run,
    private readonly before: Project,
    private readonly after: Project,
    private readonly environment: Environment,
    private readonly client: pg.PoolClient,
    private readonly builds: BuildService,
    private readonly warehouse: WarehouseService,
    private readonly intake: IntakeService,
  ) {}

  /** What this release has built is read beside; all else where it is. */
  private readonly placeOf = (table: string): Place => {
    const found = this.after.tables.get(table)!;
    return this.built.has(table) ? besidePlace(this.environment, found) : targetPlace(this.environment, found);
  };

  /** @returns false when a check is broken or a statement failed; the step says which */
  async build(steps: readonly RunStep[]): Promise<boolean> {
    const names = { placeOf: this.placeOf, functionsSchema: this.environment.schemaOf('functions') };
    for (const f of functionsOf(
      this.after,
      steps.map((s) => s.table),
    ))
      await this.client.query(compileFunction(this.after, f, names));
    const left = steps.filter((s) => s.state === 'waiting');
    const done = new Set<string>();
    while (left.length) {
      const i = left.findIndex((s) => s.waitsFor.every((w) => done.has(w)));
      const [step] = left.splice(Math.max(0, i), 1);
      await this.builds.begin(this.run, step!);
      if (!(await this.stepDone(step!))) return false;
      done.add(step!.table);
    }
    return true;
  }

  private stepDone(step: RunStep): Promise<boolean> {
    switch (step.kind) {
      case 'check':
        return this.check(step);
      case 'intake':
        return this.bringIn(step);
      case 'load':
        return this.table(step);
    }
  }

  private async bringIn(step: RunStep): Promise<boolean> {
    const table = this.after.tables.get(step.table) as SourceTable;
    const loader = new Loader(this.client);
    try {
      if (this.after.servers.get(table.server)?.wrapper === 'file_fdw') {
        // Files come by themselves: the release makes room for them.
        const item = await landingBeside(this.client, loader, this.environment, table);
        this.built.set(table.fullName, { step, item, rows: null, checks: [], loader });
        return true;
      }
      const brought = await this.intake.bringBeside(this.client, loader, this.environment, table);
      this.built.set(table.fullName, { step, item: brought.item, rows: brought.in, rowsOut: brought.out, checks: [], loader });
      this.broughtIn.set(table.fullName, brought.newest);
      return true;
    } catch (error) {
      const cause = error instanceof StatementFailed ? error.cause : error;
      this.failure = { step, loader, checks: [], error: { ...intakeError(cause, this.after), path: table.path } };
      return false;
    }
  }

  private async table(step: RunStep): Promise<boolean> {
    const table = this.after.tables.get(step.table)!;
    if (table.kind === 'source') return true;
    const loader = new Loader(this.client);
    const plan = planLoad({ project: this.after, environment: this.environment, placeOf: this.placeOf }, table);
    try {
      const { rows, checks } = await this.builds.makeAndCheck(loader, plan, this.after, this.placeOf);
      if (worst(checks.map((c) => c.verdict)) === 'broken') {
        this.failure = { step, loader, checks };
        return false;
      }
      const [old] = await loader.oldRelations([plan.target]);
      await loader.finishBeside(plan, old);
      this.built.set(table.fullName, { step, item: plan, rows, checks, loader });
      return true;
    } catch (error) {
      if (!(error instanceof StatementFailed)) throw error;
      this.failure = { step, loader, checks: [], error: stepError(error.cause, this.after, error.statement.author) };
      return false;
    }
  }

  private async check(step: RunStep): Promise<boolean> {
    const loader = new Loader(this.client);
    const outcome = await this.builds.checkFile(loader, this.after, step.table.slice('checks/'.length), {
      placeOf: this.placeOf,
      functionsSchema: this.environment.schemaOf('functions'),
      settings: settingsOf(this.after),
    });
    if (outcome.verdict === 'broken') {
      this.failure = { step, loader, checks: [outcome] };
      return false;
    }
    this.checkSteps.push({ step, outcome, loader });
    return true;
  }

  async swap(): Promise<void> {
    const loader = new Loader(this.client);
    const items: SwapItem[] = [...this.built.values()].map((b) => b.item);
    const gone = [...this.before.tables.values()].filter((t) => !this.after.tables.has(t.fullName));
    this.dropped.push(...gone.map((t) => t.fullName));
    await loader.swap(
      items,
      gone.map((t) => targetPlace(this.environment, t)),
    );
    const prints = fingerprints(this.after);
    for (const [table, { rows }] of this.built) await this.warehouse.remember(this.client, this.environment, table, prints.get(table)!, rows, this.run.id);
    await this.warehouse.forget(this.client, this.environment, this.dropped);
    await this.warehouse.rememberRelease(this.client, this.environment, this.run.commit);
    const last = [...this.built.values()].at(-1);
    last?.loader.ran.push(...loader.ran);
  }

  async recordSuccess(): Promise<void> {
    for (const { step, rows, rowsOut, checks, loader } of this.built.values()) {
      await this.builds.keep(this.run, step, checks);
      await this.builds.end(this.run, step, { state: 'done', statements: loader.ran, rowsIn: rows, ...(rowsOut === undefined ? {} : { rowsOut }) });
    }
    for (const { step, outcome, loader } of this.checkSteps) {
      await this.builds.keep(this.run, step, [outcome]);
      await this.builds.end(this.run, step, { state: 'done', statements: loader.ran });
    }
  }

  /** Results are recorded, so that the rows at fault can be seen; nothing of the warehouse changed. */
  async recordFailure(steps: readonly RunStep[]): Promise<void> {
    const failed = this.failure;
    for (const step of steps) {
      const built = this.built.get(step.table);
      if (step.id === failed?.step.id) {
        await this.builds.keep(this.run, step, failed.checks);
        await this.builds.end(this.run, step, { state: 'failed', statements: failed.loader.ran, error: failed.error ?? brokenError(failed.checks) });
      } else if (built)
        await this.builds.end(this.run, step, {
          state: 'blocked',
          statements: built.loader.ran,
          rowsIn: built.rows,
          error: { message: 'built and checked, but not put into place: the release failed' },
        });
      else await this.builds.end(this.run, step, { state: 'blocked' });
    }
  }
}
