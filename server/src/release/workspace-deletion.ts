import { Injectable, type OnApplicationBootstrap } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { IsNull, Not, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { branchOf, MAIN, WORKSPACE_BRANCHES } from '../project/branches.js';
import { DraftService } from '../project/draft.service.js';
import { Draft, Workspace } from '../project/project.entities.js';
import { ProjectService } from '../project/project.service.js';
import { refuseOthers } from '../project/sharing.service.js';
import { Run } from '../run/run.entities.js';
import { logger, Problem } from '../shared/problem.js';
import { currentTime } from '../shared/time.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';

/** Deletes workspaces: their drafts, their schemas in the warehouse, at last their branches. */
@Injectable()
export class WorkspaceDeletion implements OnApplicationBootstrap {
  constructor(
    @InjectRepository(Workspace) private readonly workspaces: Repository<Workspace>,
    @InjectRepository(Run) private readonly runs: Repository<Run>,
    private readonly projects: ProjectService,
    private readonly drafts: DraftService,
    private readonly people: PeopleService,
    private readonly warehouse: WarehouseService,
  ) {}

  /** What was cut off is finished: a closed workspace that still has its branch is not gone yet. */
  async onApplicationBootstrap(): Promise<void> {
    const branches = await this.projects.git.branches(WORKSPACE_BRANCHES).catch(() => new Map<string, string>());
    const closed = await this.workspaces.find({ where: { closedAt: Not(IsNull()) } });
    for (const workspace of closed)
      if (branches.has(branchOf(workspace.slug)))
        await this.remove(workspace).catch((error: unknown) => logger.warn(error));
  }

  /**
   * Deletes a workspace.
   * @param consents paths of drafts and ids of commits that may be lost
   * @throws Problem 403 for others than its owner and administrators, 409 with what would be lost without consent, or
   * while something runs in it
   */
  async delete(me: Person, slug: string, consents: readonly string[]): Promise<void> {
    const workspace = await this.projects.workspace(slug);
    refuseOthers(me, workspace, 'deletes');
    const drafts = (await this.drafts.of(workspace)).map((d) => d.path);
    const commits = await this.projects.git.log(branchOf(slug), { notIn: MAIN });
    const lost = [...drafts, ...commits.map((c) => c.id)].filter((one) => !consents.includes(one));
    if (lost.length > 0)
      throw new Problem(
        409,
        'needs-consent',
        'This workspace has what is not released',
        'Confirm that it is lost, or release it first.',
        { drafts, commits: commits.map(({ id, message }) => ({ id, message: message.split('\n')[0]! })) },
      );
    await this.refuseRunning(slug);
    await this.workspaces.update(workspace.id, { closedAt: currentTime() });
    // What was asked for in between keeps it.
    await this.refuseRunning(slug).catch(async (error: unknown) => {
      await this.workspaces.update(workspace.id, { closedAt: null });
      throw error;
    });
    await this.people.audit(me, 'workspace deleted', slug, { drafts, commits: commits.map((c) => c.id) });
    await this.remove(workspace);
  }

  private async refuseRunning(slug: string): Promise<void> {
    const [run] = await this.runs.query<{ id: number }[]>(
      `select id from run where state in ('queued', 'running')
       and (environment = $1 or (kind = 'release' and request #>> '{release,workspace}' = $1)) limit 1`,
      [slug],
    );
    if (run)
      throw new Problem(
        409,
        'running',
        `Run ${run.id} of this workspace is under way`,
        'Stop it, or wait for its end.',
      );
  }

  private async remove(workspace: Workspace): Promise<void> {
    await this.workspaces.manager.delete(Draft, { workspace: { id: workspace.id } });
    const others = (await this.workspaces.find()).map((w) => w.prefix).filter((p) => p !== workspace.prefix);
    await this.warehouse.dropSchemas(workspace.prefix, others);
    await this.projects.git.deleteBranch(branchOf(workspace.slug));
  }
}
