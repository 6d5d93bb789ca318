import { DraftService } from '../project/draft.service.js';
import { Injectable, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { FileConflict } from '@ouvrage/api/project';
import type { CheckState } from '@ouvrage/api/quality';
import type { ChangeImpact, ComparedTexts, Comparison, ReleaseEntry } from '@ouvrage/api/release';
import { changedChecks } from '@ouvrage/core/check';
import { formerNamesBack } from '@ouvrage/core/assist';
import { targetOf } from '@ouvrage/core/compile';
import { columnWith } from '@ouvrage/core/language';
import { rehashedColumns, SESSION_SETTINGS } from '@ouvrage/core/load';
import { freedColumns, impactOf, partsOfId } from '@ouvrage/core/lineage';
import type { Project } from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import {
  compareProjects,
  holdersOf,
  type Loss,
  losses,
  type Migration,
  migrations,
  type ProjectChange,
  type Treatment,
  wrongFormerNames,
} from '@ouvrage/core/review';
import { lineColumn } from '@ouvrage/core/sql';
import type pg from 'pg';
import { MoreThanOrEqual, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import type { Workspace } from '../project/project.entities.js';
import { branchOf, MAIN, PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { WithdrawalService } from '../project/withdrawal.service.js';
import { ReviewService } from '../review/review.service.js';
import { QualityService } from '../quality/quality.service.js';
import { BuildKit } from '../run/build-kit.js';
import { planTables } from '../run/run-plan.js';
import { RunQueue } from '../run/run-queue.js';
import { Release, Run, type RunStep } from '../run/run.entities.js';
import { RunService } from '../run/run.service.js';
import { StepJournal } from '../run/step-journal.js';
import type { Sent } from '../shared/answers.js';
import { isConnectionLost } from '../shared/connection-lost.js';
import { logger, notFound, Problem } from '../shared/problem.js';
import { IntakeService } from '../source/intake.service.js';
import type { Loaded } from '../warehouse/loaded.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { type FirstRun, runFirst } from './first-run.js';
import type { Restore } from './release-transaction.js';
import { RestoreService } from './restore.service.js';
import { ReleaseCosts } from './release-cost.js';
import { ReleaseCompletion, type ReleaseIntent } from './release-completion.js';
import { ReleaseTransaction } from './release-transaction.js';

/** What is asked for. */
export interface ReleaseRequest {
  readonly message: string;
  /** What may be dropped for good. */
  readonly consents: readonly string[];
  readonly treatments: Readonly<Record<string, string>>;
  /** Why an administrator releases it without what its review needs. */
  readonly override: string | undefined;
}

/**
 * Errors of a workspace as it is edited, which Today tells as well, and those that only its release would have.
 * @param production whose tables are gone on from; undefined where none are
 */
function errorsOf(
  production: Project | undefined,
  edited: Project,
  released: Project,
): { readonly path: string; readonly message: string }[] {
  const found = [edited, released].flatMap((project) => [
    ...project.diagnostics.filter((d) => d.severity === 'error').map(({ path, message }) => ({ path, message })),
    ...(production ? wrongFormerNames(production, project) : []).map(({ path, message, hint }) => ({
      path,
      message: `${message}; ${hint}`,
    })),
  ]);
  return [...new Map(found.map((e) => [JSON.stringify(e), e])).values()];
}

/** What a change does elsewhere, in places of the later project. */
function impactBetween(before: Project, after: Project): ChangeImpact {
  const { breaks, values, rows } = impactOf(before, after);
  return {
    breaks: breaks.map(({ path, message, range }) => ({
      path,
      message,
      ...lineColumn(after.files.get(path)?.text ?? '', range.start),
    })),
    values: values.map((id) => partsOfId(after, id)),
    rows,
  };
}

const countVerdicts = (checks: readonly CheckState[]): Comparison['verdicts'] => {
  const counts = { broken: 0, advisory: 0, 'not run': 0, holds: 0 };
  for (const { verdict } of checks) counts[verdict]++;
  return counts;
};

/** Compares a workspace with production, and puts it into production all at once. */
@Injectable()
export class ReleaseService implements OnModuleInit {
  constructor(
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    private readonly projects: ProjectService,
    private readonly drafts: DraftService,
    private readonly runs: RunService,
    private readonly kit: BuildKit,
    private readonly journal: StepJournal,
    private readonly warehouse: WarehouseService,
    private readonly quality: QualityService,
    private readonly intake: IntakeService,
    private readonly completion: ReleaseCompletion,
    private readonly waiting: RunQueue,
    private readonly reviews: ReviewService,
    private readonly withdrawals: WithdrawalService,
    private readonly costs: ReleaseCosts,
    private readonly people: PeopleService,
    private readonly restoring: RestoreService,
  ) {}

  onModuleInit(): void {
    this.runs.register('release', (run, steps, signal) => this.work(run, steps, signal));
    this.waiting.settlers.push(() => this.completion.completeLeft());
  }

  async list(): Promise<Sent<ReleaseEntry>[]> {
    const found = await this.releases.find({ order: { id: 'DESC' }, take: 100 });
    return found.map(({ id, commit, workspace, message, person, tables, runId, at, review, withdraws }) => ({
      id,
      commit,
      workspace,
      message,
      person,
      tables,
      runId,
      at,
      review,
      withdraws,
    }));
  }

  /**
   * Opens a workspace with the definitions from before a release. Released, it withdraws that release and all after it.
   * @param restores whether its release puts back the copies that were kept; else today's rows are kept, and moved along
   *   where tables and columns have been renamed
   * @throws Problem 409 where there was nothing before, or production is as it was
   */
  async wayBack(person: Person, id: number, { restores }: { readonly restores: boolean }): Promise<Workspace> {
    const release = await this.releases.findOneBy({ id });
    if (!release) throw notFound(`The release ${id}`);
    const withdraws = await this.releases.find({ where: { id: MoreThanOrEqual(id) }, order: { id: 'ASC' } });
    const to = release.commitBefore;
    if (to === null)
      throw new Problem(
        409,
        'first-release',
        `Release ${id} is the first`,
        'There was nothing before it to go back to.',
      );
    const [earlier, now] = [await this.projects.projectAt(to), (await this.projects.line(PRODUCTION)).project];
    if (compareProjects(now, earlier).files.length === 0)
      throw new Problem(
        409,
        'nothing-to-withdraw',
        `Production is as it was before release ${id}`,
        'There is nothing to go back from.',
      );
    const name = `${restores ? 'Restore from' : 'Back to'} before release ${id}`;
    const workspace = await this.projects.wayBack(person, name, {
      to,
      edits: restores ? new Map() : formerNamesBack(earlier, now),
      withdraws: withdraws.map((r) => r.id),
      restores,
    });
    await this.people.audit(person, 'way back opened', workspace.slug, {
      withdraws: withdraws.map((r) => r.id),
      restores,
    });
    return workspace;
  }

  /** A workspace against production: files with both texts, tables, and what is in the way. */
  async compare(slug: string): Promise<Sent<Comparison>> {
    const line = await this.projects.line(slug);
    if (!line.workspace)
      throw new Problem(409, 'is-production', 'Production is what workspaces are compared with', 'Choose a workspace.');
    const production = await this.projects.line(PRODUCTION);
    const committed = await this.committed(slug);
    const after = { ...line, project: await this.projects.asReleased(line) };
    const drafted = compareProjects(production.project, after.project);
    const { checks } = await this.quality.stateOf(after);
    const changed = changedChecks(production.project, after.project);
    const known = [
      ...checks,
      ...(changed.some((c) => c.change === 'deleted') ? (await this.quality.stateOf(production)).checks : []),
    ];
    const touched = new Set(drafted.tables.map((t) => t.table));
    const restores = line.workspace.restores ? (await this.restoring.plan(line.workspace.withdraws[0]!)).plan : null;
    const copied = new Set(restores?.tables.filter((t) => t.bytes !== null).map((t) => t.table));
    const drafts = new Set(line.drafts.map((d) => d.path));
    return {
      workspace: { slug, name: line.workspace.name, owner: line.workspace.owner.displayName },
      commits: await this.projects.git.log(branchOf(slug), { notIn: MAIN }),
      withdraws: line.workspace.withdraws,
      restores,
      holdsWithdrawn: (await this.withdrawals.of(line.commit))?.releases ?? [],
      drafts: line.drafts.map((d) => d.path),
      conflicts: committed.conflicts,
      errors: errorsOf(restores ? undefined : production.project, after.project, committed.project ?? after.project),
      files: drafted.files.map((f) => ({ ...f, draft: drafts.has(f.path) })),
      tables: drafted.tables,
      losses: lossesOf(line.workspace, production.project, after.project, drafted),
      keptDays: await this.restoring.days(),
      migrations: line.workspace.restores ? [] : migrations(production.project, after.project, drafted),
      rehashes: rehashes(after.project, drafted, await this.warehouse.loaded(this.projects.environmentOf(undefined))),
      untouched: after.project.tables.size - drafted.tables.filter((t) => t.kind !== 'deleted').length,
      // What is put back is neither built nor copied.
      cost: await this.costs.of(production.project, { tables: drafted.tables.filter((t) => !copied.has(t.table)) }),
      impact: impactBetween(production.project, after.project),
      freed: freedColumns(production.project, after.project),
      checks: changed.map(({ change, check }) => ({ change, check: known.find((c) => c.id === check.id)! })),
      verdicts: countVerdicts(checks.filter((c) => touched.has(c.table))),
    };
  }

  /** A file in production, and as a release of the workspace would leave it. */
  async texts(slug: string, path: string): Promise<ComparedTexts> {
    const [line, production] = [await this.projects.line(slug), await this.projects.line(PRODUCTION)];
    const text = (project: Project) => project.files.get(path)?.text ?? null;
    return { before: text(production.project), after: text(await this.projects.asReleased(line)) };
  }

  /** The project that a release would make, or the files in which it conflicts with production. */
  private async committed(slug: string): Promise<{ project?: Project; conflicts: readonly FileConflict[] }> {
    try {
      const merged = await this.projects.mergedWithMain(slug);
      const tree = (await this.projects.git.git(['rev-parse', merged.tree])).trim();
      return { project: await this.projects.projectAt(tree), conflicts: [] };
    } catch (error) {
      if (error instanceof Problem && error.code === 'merge-conflict')
        return { conflicts: error.extra['files'] as FileConflict[] };
      throw error;
    }
  }

  /** Asks for the release of what a workspace has committed. */
  async ask(person: Person, slug: string, { message, consents, treatments, override }: ReleaseRequest): Promise<Run> {
    const workspace = await this.projects.workspace(slug);
    const drafts = await this.drafts.of(workspace);
    if (drafts.length)
      throw new Problem(
        409,
        'drafts-open',
        `${drafts.length === 1 ? 'One draft is' : `${drafts.length} drafts are`} not committed: ${drafts.map((d) => d.path).join(', ')}`,
        'Commit or discard them, then release.',
      );
    const merged = await this.projects.mergedWithMain(slug);
    const commit = await this.projects.releaseCommit(person, merged, message);
    const production = await this.projects.line(PRODUCTION);
    const after = await this.projects.projectAt(commit);
    const change = compareProjects(production.project, after);
    if (change.files.length === 0)
      throw new Problem(409, 'nothing-to-release', 'Production already has all of this', 'Commit a change first.');
    const errors = after.diagnostics.filter((d) => d.severity === 'error');
    if (errors.length)
      throw new Problem(
        422,
        'project-errors',
        `${errors.length === 1 ? 'One error' : `${errors.length} errors`} in the project`,
        errors
          .slice(0, 5)
          .map((e) => `${e.path}: ${e.message}`)
          .join('; '),
      );
    // What is put back has its rows, whatever it was called before them.
    const [wrong] = workspace.restores ? [] : wrongFormerNames(production.project, after);
    if (wrong) throw new Problem(422, 'wrong-former-name', `${wrong.table}: ${wrong.message}`, wrong.hint);
    this.refuseLosses(lossesOf(workspace, production.project, after, change), consents, await this.restoring.days());
    const restores = workspace.restores ? await this.restored(workspace, commit, consents) : undefined;
    const chosen = restores ? {} : this.chosen(migrations(production.project, after, change), treatments);
    const review = await this.reviews.allow(person, slug, { merged, consents, override });
    const environment = this.projects.environmentOf(undefined);
    const standings = await this.warehouse.standings(after, environment, environment);
    const built = this.tablesToBuild(change, after);
    for (const table of restores ?? []) if (after.tables.get(table)!.kind !== 'source') built.add(table);
    const planned = planTables(after, built, standings, {
      // Over what is put back they run with the load that follows.
      alsoChecks: restores ? [] : this.changedChecks(change),
      broughtIn: this.toBringIn(change, after),
    });
    return this.runs.queue(
      person,
      {
        kind: 'release',
        environment: PRODUCTION,
        commit,
        request: {
          tables: planned.map((p) => p.name),
          upstream: false,
          downstream: false,
          parallelism: 1,
          parameters: {},
          drafts: {},
          release: {
            workspace: slug,
            message,
            treatments: chosen,
            review,
            withdraws: workspace.withdraws,
            ...(restores ? { restores: { tables: restores, by: person.id } } : {}),
          },
        },
      },
      planned,
    );
  }

  /**
   * The tables of which a restore puts back a copy.
   * @throws Problem where its definitions are not those of before, or a table that does not come back as it was has no consent
   */
  private async restored(
    { withdraws }: Workspace,
    commit: string,
    consents: readonly string[],
  ): Promise<readonly string[]> {
    const { plan, restore } = await this.restoring.plan(withdraws[0]!);
    const first = await this.releases.findOneByOrFail({ id: withdraws[0]! });
    const isLast = plan.releases.join() === withdraws.join();
    const changed = await this.projects.git.changedFiles(first.commitBefore!, commit);
    if (!isLast || changed?.size !== 0)
      throw new Problem(
        409,
        'not-as-before',
        `The definitions are not those from before release ${first.id}`,
        isLast
          ? 'Kept copies fit only the definitions that made them: open another workspace to restore, and release it unchanged.'
          : 'Production has been released since: open another workspace to restore.',
      );
    const open = plan.tables.filter((t) => t.mark !== 'comes back' && !consents.includes(t.table));
    if (open.length)
      throw new Problem(
        409,
        'needs-consent',
        `Not all comes back: ${open.map((t) => `${t.table}: ${t.why}`).join('; ')}`,
        'Confirm it, or go back by the earlier definitions.',
        { losses: open.map((t) => ({ of: t.table })) },
      );
    return [...restore.copies.keys()];
  }

  private refuseLosses(lost: readonly Loss[], consents: readonly string[], days: number): void {
    const open = lost.filter((l) => !consents.includes(l.of));
    if (open.length === 0) return;
    const [cut, dropped] = [open.filter((l) => l.cutTo !== undefined), open.filter((l) => l.cutTo === undefined)];
    const does = [
      ...(dropped.length ? [`drops ${dropped.map((l) => l.of).join(', ')}`] : []),
      ...(cut.length ? [`may cut values of ${cut.map((l) => `${l.of} to ${l.cutTo!}`).join(', ')}`] : []),
    ];
    throw new Problem(
      409,
      'needs-consent',
      `This release ${does.join(' and ')}`,
      days === 0
        ? 'Confirm it, or keep it in the contract.'
        : `Confirm it, or keep it in the contract. A copy of what is replaced is kept for ${days === 1 ? 'a day' : `${days} days`}.`,
      { losses: open },
    );
  }

  /** What is done with the rows of each table that keeps them. */
  private chosen(found: readonly Migration[], treatments: Readonly<Record<string, string>>): Record<string, Treatment> {
    return Object.fromEntries(
      found.map(({ table, choices, obstacle }) => {
        const asked = treatments[table] ?? 'go on';
        const treatment = choices.find((c) => c === asked);
        if (treatment) return [table, treatment];
        if (obstacle !== undefined && treatments[table] === undefined)
          throw new Problem(
            409,
            'cannot-go-on',
            `${table} cannot go on from its rows: ${obstacle}`,
            'Start it over, or change the definition back.',
          );
        throw new Problem(422, 'bad-treatment', `${table} cannot ${asked}`, `It can ${choices.join(', or ')}.`);
      }),
    );
  }

  private tablesToBuild(change: ProjectChange, after: Project): Set<string> {
    return new Set(
      change.tables
        .filter((t) => t.kind !== 'deleted' && after.tables.get(t.table)?.kind !== 'source')
        .map((t) => t.table),
    );
  }

  /** Source tables that are new or declared otherwise: the release brings them in, so that what reads them can be built. */
  private toBringIn(change: ProjectChange, after: Project): string[] {
    return change.tables.flatMap((t) => {
      const table = after.tables.get(t.table);
      return table?.kind === 'source' && t.kind !== 'deleted' ? [t.table] : [];
    });
  }

  private changedChecks(change: ProjectChange): string[] {
    return change.files.flatMap((f) =>
      f.kind !== 'deleted' ? (/^checks\/(?:.*\/)?([^/]+)\.sql$/.exec(f.path)?.[1] ?? []) : [],
    );
  }

  /** Runs the new functions of a release in its workspace first. */
  private async tryFunctions(
    run: Run,
    of: Pick<FirstRun, 'before' | 'after' | 'production' | 'signal'>,
    steps: readonly RunStep[],
  ): Promise<void> {
    const workspace = this.projects.environmentOf(await this.projects.workspace(run.request.release!.workspace));
    await this.warehouse.prepare(workspace, schemaNames(of.after.layers, of.after.tables.values()));
    await runFirst(
      { ...of, warehouse: this.warehouse, workspace },
      steps.map((s) => s.table),
    );
  }

  /**
   * What a release puts back, where it goes back by kept copies.
   * @throws Problem where a copy has gone since it was asked for
   */
  private async restoreOf({ request: { release } }: Run): Promise<Restore | undefined> {
    if (!release?.restores) return undefined;
    const { restore } = await this.restoring.plan(release.withdraws![0]!);
    const gone = release.restores.tables.filter((t) => !restore.copies.has(t));
    if (gone.length)
      throw new Problem(
        409,
        'copy-gone',
        `The kept copy of ${gone.join(', ')} is no longer there`,
        'Production is unchanged. Look at the review again: it says what comes back.',
      );
    return restore;
  }

  private async work(run: Run, steps: RunStep[], signal: AbortSignal): Promise<'succeeded' | 'failed' | 'stopped'> {
    await this.completion.completeLeft();
    const main = (await this.projects.git.resolve(MAIN))!;
    if (!(await this.projects.git.isAncestor(main, run.commit)))
      throw new Problem(
        409,
        'production-moved',
        'Another release came first',
        'Release again: it is compared with production as it is now.',
      );
    const [before, after] = [await this.projects.projectAt(main), await this.projects.projectAt(run.commit)];
    const environment = this.projects.environmentOf(undefined);
    await this.warehouse.prepare(environment, schemaNames(after.layers, after.tables.values()));
    await this.tryFunctions(run, { before, after, production: environment, signal }, steps);
    const restore = await this.restoreOf(run);
    let release: ReleaseTransaction | undefined;
    let isCommitted = false;
    const work = async (client: pg.ClientBase): Promise<ReleaseIntent | undefined> => {
      const { kit, journal, warehouse, intake } = this;
      const keeping = await this.restoring.keeping(client, run.id);
      const means = { kit, journal, warehouse, intake, keeping, ...(restore ? { restore } : {}) };
      release = new ReleaseTransaction(run, before, after, environment, client, means);
      await client.query(['begin', ...SESSION_SETTINGS].join(';\n'));
      const well = await release.build(steps);
      if (!well || signal.aborted) {
        await client.query('rollback');
        return undefined;
      }
      await release.swap();
      const intent = {
        commit: run.commit,
        before: main,
        run: run.id,
        tables: [...release.built.keys(), ...release.dropped],
        broughtIn: [...release.broughtIn],
        renamed: [...(restore?.names ?? [])].filter(([was]) => after.tables.has(was)),
      };
      await this.completion.intend(client, intent);
      await client.query('commit');
      isCommitted = true;
      return intent;
    };
    try {
      const intent = await this.warehouse.session('production', work, signal);
      if (!intent) {
        release!.recordFailure(steps);
        return signal.aborted ? 'stopped' : 'failed';
      }
      await this.completion.complete(intent);
    } catch (error) {
      if (isCommitted) throw notCompleted(error);
      if (signal.aborted) {
        release?.recordFailure(steps);
        return 'stopped';
      }
      throw isConnectionLost(error) ? notCompleted(error) : notReleased(error);
    }
    release!.recordSuccess();
    await this.warehouse.remake(release!.gone).catch((error: unknown) => logger.warn(error));
    return 'succeeded';
  }
}

/** What a release takes away. A restore changes no table that goes on: of what goes a copy is kept. */
const lossesOf = ({ restores }: Workspace, before: Project, after: Project, change: ProjectChange): Loss[] =>
  losses(before, after, restores ? { ...change, tables: change.tables.filter((t) => t.kind === 'deleted') } : change);

const wordsOf = (error: unknown) => (error instanceof Error ? error.message : String(error));

const notReleased = (error: unknown) =>
  new Problem(500, 'release-failed', 'The release could not be completed; production is unchanged', wordsOf(error));

/** Where the warehouse may hold the release: what is left to do is done as soon as it can be, and this run's state follows. */
const notCompleted = (error: unknown) =>
  new Problem(
    503,
    'release-unfinished',
    'The release was interrupted while it was being completed',
    `It is completed within seconds if the warehouse already has it; this run then shows as succeeded. Otherwise production is unchanged: release again. ${wordsOf(error)}`,
  );

/** A table whose hashes a release makes again, so that equal values have equal ones, and the tables that hold its keys. */
interface Rehash {
  readonly table: string;
  readonly columns: readonly string[];
  readonly facts: readonly string[];
}

function rehashes(after: Project, change: ProjectChange, loaded: ReadonlyMap<string, Loaded>): Rehash[] {
  return change.tables.flatMap(({ table, was, kind }): Rehash[] => {
    const found = after.tables.get(table);
    const before = loaded.get(was ?? table);
    if (
      kind === 'deleted' ||
      found?.kind !== 'definition' ||
      !found.contract ||
      !before ||
      (before.hashing ?? 'as text') !== 'as text'
    )
      return [];
    const columns = rehashedColumns(targetOf(after, found));
    const key = columnWith(found.contract, 'surrogate key');
    const facts = key !== undefined && columns.includes(key) ? holdersOf(after, table).map((h) => h.table) : [];
    return columns.length ? [{ table, columns, facts }] : [];
  });
}
