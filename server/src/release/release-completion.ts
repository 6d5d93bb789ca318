import { STATE_LAYER } from '../warehouse/loaded.js';
import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { renamedTables } from '@ouvrage/core/review';
import { qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { Repository } from 'typeorm';
import { branchOf, MAIN, PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { RunQueue } from '../run/run-queue.js';
import { Release, Run } from '../run/run.entities.js';
import { RunService } from '../run/run.service.js';
import { PeopleService } from '../people/people.service.js';
import { logger, Problem } from '../shared/problem.js';
import { SourceStateService } from '../source/source-state.service.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { currentTime } from '../shared/time.js';

/** What a release does beyond the warehouse: written there in the release's own transaction, so that it is done whatever happens next. */
export interface ReleaseIntent {
  readonly commit: string;
  readonly before: string;
  readonly run: number;
  /** Tables that were rebuilt, and those that were dropped. */
  readonly tables: readonly string[];
  /** Source tables that were brought in, with their greatest watermarks. */
  readonly broughtIn: readonly (readonly [table: string, newest: string | null])[];
  /** Tables that bear their earlier names again, where it went back by kept copies: the definitions do not say so. */
  readonly renamed?: readonly (readonly [now: string, was: string])[];
}

/**
 * The part of a release that follows the warehouse's commit: git's main, the workspace's branch, the application's own
 * records. Any process does it, when it is not done yet.
 */
@Injectable()
export class ReleaseCompletion {
  constructor(
    @InjectRepository(Release) private readonly releases: Repository<Release>,
    @InjectRepository(Run) private readonly runs: Repository<Run>,
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly states: SourceStateService,
    private readonly waiting: RunQueue,
    private readonly loads: RunService,
    private readonly people: PeopleService,
  ) {}

  private get place(): string {
    return qualified({ schema: this.projects.environmentOf(undefined).schemaOf(STATE_LAYER), name: 'released' });
  }

  /** Writes down, in the transaction that changes the warehouse, what has to follow it. */
  async intend(client: pg.ClientBase, { commit, ...rest }: ReleaseIntent): Promise<void> {
    await client.query(`delete from ${this.place}`);
    await client.query(`insert into ${this.place} (commit_id, intent) values ($1, $2)`, [commit, rest]);
  }

  /** What the warehouse was last released to; without the rest where an earlier version did it. */
  private async intended(): Promise<{ commit: string; rest: Omit<ReleaseIntent, 'commit'> | null } | undefined> {
    const environment = this.projects.environmentOf(undefined);
    return this.warehouse.session(this.warehouse.builder(environment), async (client) => {
      const { rows: there } = await client.query<{ there: boolean }>('select to_regclass($1) is not null as there', [
        this.place,
      ]);
      if (!there[0]?.there) return undefined;
      const { rows } = await client.query<{ commit: string; rest: Omit<ReleaseIntent, 'commit'> | null }>(
        `select commit_id as commit, to_jsonb(r) -> 'intent' as rest from ${this.place} as r`,
      );
      return rows[0];
    });
  }

  /** Completes a release that the warehouse holds and of which something is still to do, unless a process is at it. */
  async completeLeft(): Promise<void> {
    const found = await this.intended();
    if (!found) return;
    const { commit, rest } = found;
    if (!rest) return this.moveMain(commit);
    if (await this.isComplete(rest.run)) return;
    await this.waiting.unlessWorkedOn(rest.run, async () => {
      if (await this.isComplete(rest.run)) return;
      await this.complete({ commit, ...rest });
      await this.releases.query(
        `update run_step set state = 'done', finished_at = coalesce(finished_at, clock_now()) where run_id = $1 and state <> 'reused'`,
        [rest.run],
      );
      await this.runs.update(rest.run, { state: 'succeeded', error: null, finishedAt: currentTime() });
    });
  }

  private async isComplete(run: number): Promise<boolean> {
    return (await this.releases.countBy({ runId: run })) > 0;
  }

  private async moveMain(commit: string): Promise<void> {
    const main = await this.projects.git.resolve(MAIN);
    if (main && main !== commit && (await this.projects.git.isAncestor(main, commit)))
      await this.projects.git.moveMain(commit, main);
  }

  /** Does what follows the warehouse's commit; each part can be done again. The record of the release comes last. */
  async complete({ commit, before, run, tables, broughtIn, renamed: back = [] }: ReleaseIntent): Promise<void> {
    const { request, person } = await this.runs.findOneByOrFail({ id: run });
    const { workspace, message, review = null, withdraws = [] } = request.release!;
    await this.moveMain(commit);
    const head = await this.projects.git.resolve(branchOf(workspace));
    if (head && (await this.projects.git.isAncestor(head, commit)))
      await this.projects.git.moveBranch(branchOf(workspace), commit, head);
    const renamed = renamedTables(await this.projects.projectAt(before), await this.projects.projectAt(commit));
    for (const [now, was] of [...renamed, ...back]) await this.renamePast(was, now);
    for (const [table, newest] of broughtIn) await this.states.broughtIn(PRODUCTION, table, newest);
    // What it withdrew is withdrawn: another release of the workspace withdraws nothing.
    if (withdraws.length)
      await this.releases.query(`update workspace set withdraws = '{}', restores = false where slug = $1`, [workspace]);
    if (request.release!.restores) await this.loadRestored(commit, request.release!.restores);
    await this.releases.insert({
      commit,
      commitBefore: before,
      workspace,
      message,
      person,
      tables,
      runId: run,
      review: review as never,
      withdraws: [...withdraws],
    });
  }

  /** Loads what was put back, and what reads it: what its inputs have had since comes again. */
  private async loadRestored(
    commit: string,
    { tables, by }: NonNullable<NonNullable<Run['request']['release']>['restores']>,
  ): Promise<void> {
    const project = await this.projects.projectAt(commit);
    const [person] = await this.people.byIds([by]);
    const loaded = tables.filter((t) => project.tables.get(t)?.kind === 'definition');
    if (!person || loaded.length === 0) return;
    await this.loads
      .build(person, PRODUCTION, { tables: loaded, upstream: false, downstream: true })
      .catch((error: unknown) => {
        if (!(error instanceof Problem)) throw error;
        logger.warn(error);
      });
  }

  /** Runs and verdicts of a table that got another name are found under the new one. */
  private async renamePast(was: string, now: string): Promise<void> {
    const ofProduction = `select s.id from run_step s join run r on r.id = s.run_id where r.environment = $3`;
    await this.releases.query(
      `update check_result set check_id = $2 || substr(check_id, length($1) + 1), table_name = $2 where table_name = $1 and step_id in (${ofProduction})`,
      [was, now, PRODUCTION],
    );
    await this.releases.query(
      `update incident_subject set table_name = $2, subject = case when kind = 'check' and subject like 'checks/%' then subject else $2 || substr(subject, length($1) + 1) end where table_name = $1`,
      [was, now],
    );
    for (const kept of ['measurement', 'watch_lesson'])
      await this.releases.query(`update ${kept} set table_name = $2 where table_name = $1`, [was, now]);
    await this.releases.query(`update run_step set table_name = $2 where table_name = $1 and id in (${ofProduction})`, [
      was,
      now,
      PRODUCTION,
    ]);
  }
}
