import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { In, LessThan, MoreThan, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { currentTime } from '../shared/time.js';
import { branchOf, MAIN, WORKSPACE_BRANCHES } from './branches.js';
import { GitStore } from './git.js';
import { WithdrawalService } from './withdrawal.service.js';
import { BranchWriter, CommitAuthor, type Draft, Push, Workspace } from './project.entities.js';

/** Rows of one statement. */
const AT_ONCE = 1000;
/** No push takes so long: one that is older was cut off, and its commits are settled. */
const FORGOTTEN_MS = 86_400_000;

/**
 * Who wrote what of a workspace: the people who saved drafts, committed or pushed, whatever a commit says of its authors.
 * They are known by their sessions and tokens alone.
 */
@Injectable()
export class WriterService {
  constructor(
    private readonly git: GitStore,
    private readonly withdrawals: WithdrawalService,
    @InjectRepository(CommitAuthor) private readonly authors: Repository<CommitAuthor>,
    @InjectRepository(BranchWriter) private readonly writers: Repository<BranchWriter>,
    @InjectRepository(Push) private readonly pushes: Repository<Push>,
    @InjectRepository(Workspace) private readonly workspaces: Repository<Workspace>,
  ) {}

  /** Writes down who wrote a commit that is about to be made the newest of a workspace's branch. */
  async committed(
    person: Person,
    workspace: Workspace,
    { commit, drafts }: { readonly commit: string; readonly drafts: readonly Pick<Draft, 'path' | 'authors'>[] },
  ): Promise<void> {
    const rows = drafts.flatMap((d) => d.authors.map((personId) => ({ commit, path: d.path, personId })));
    await this.keep([...rows, { commit, path: '', personId: person.id }]);
    await this.wrote(workspace.id, [person.id, ...drafts.flatMap((d) => d.authors)]);
  }

  /** Writes down that somebody is about to push. @returns what is given to `pushed` afterwards */
  async pushing(person: Person): Promise<string> {
    const branches = Object.fromEntries(await this.git.branches(WORKSPACE_BRANCHES));
    return (await this.pushes.save(this.pushes.create({ personId: person.id, branches }))).id;
  }

  /** Writes down who wrote the commits of a push that git has taken. */
  async pushed(id: string): Promise<void> {
    await this.settle();
    await this.pushes.delete(id);
    await this.pushes.delete({ at: LessThan(new Date(currentTime().getTime() - FORGOTTEN_MS)) });
  }

  /**
   * Commits of which nobody is known to have written them come from a push: of several at once, or of one that was cut
   * off, whoever pushed is taken for the author of all, so that nobody is left out.
   */
  private async settle(): Promise<void> {
    const open = await this.pushes.find();
    if (open.length === 0) return;
    const now = await this.git.branches(WORKSPACE_BRANCHES);
    const workspaces = await this.workspaces.find();
    for (const { personId, branches } of open)
      for (const { id, slug } of workspaces) {
        const ref = branchOf(slug);
        if (now.get(ref) !== branches[ref]) await this.wrote(id, [personId]);
      }
    const unknown = await this.unknown([...now.values()]);
    await this.keep(unknown.flatMap((commit) => open.map(({ personId }) => ({ commit, path: '', personId }))));
  }

  /** Commits of branches that production does not have and that nobody is known to have written. */
  private async unknown(heads: readonly string[]): Promise<string[]> {
    if (heads.length === 0) return [];
    const commits = await this.commitsOf(heads);
    const known = new Set<string>();
    for (let i = 0; i < commits.length; i += AT_ONCE)
      for (const { commit } of await this.authors.findBy({ commit: In(commits.slice(i, i + AT_ONCE)) }))
        known.add(commit);
    return commits.filter((c) => !known.has(c));
  }

  /** @param not what counts for nothing with all that it holds */
  private async commitsOf(heads: readonly string[], not = MAIN): Promise<string[]> {
    return (await this.git.git(['rev-list', ...new Set(heads), '--not', not])).split('\n').filter(Boolean);
  }

  /** Who wrote some commits, as it is known here. */
  private async whoWrote(commits: readonly string[]): Promise<Set<string>> {
    const found = new Set<string>();
    for (let i = 0; i < commits.length; i += AT_ONCE)
      for (const { personId } of await this.authors.findBy({ commit: In(commits.slice(i, i + AT_ONCE)) }))
        found.add(personId);
    return found;
  }

  /** Writes down that a workspace brings again what was withdrawn: those who wrote it are its authors. */
  async broughtAgain({ id }: Workspace, head: string, before: string): Promise<void> {
    const people = await this.whoWrote(await this.commitsOf([head], before));
    if (people.size > 0) await this.wrote(id, [...people]);
  }

  /**
   * The ids of all who wrote any part of what a workspace has and production has not, or has withdrawn.
   * @param since its last release
   */
  async of(workspace: Workspace, since: Date | undefined): Promise<Set<string>> {
    await this.settle();
    const head = await this.git.resolve(branchOf(workspace.slug));
    const withdrawn = head ? await this.withdrawals.of(head) : undefined;
    const found = await this.whoWrote(head ? await this.commitsOf([head], withdrawn?.before) : []);
    const where = { workspaceId: workspace.id, ...(since && !withdrawn ? { at: MoreThan(since) } : {}) };
    for (const { personId } of await this.writers.findBy(where)) found.add(personId);
    return found;
  }

  /** Who wrote a file of each of some commits, as it is known here; of others nothing. */
  async ofFile(file: string, commits: readonly string[]): Promise<Map<string, string[]>> {
    const found = new Map<string, string[]>();
    const rows = await this.authors.find({
      where: { commit: In([...commits]), path: In([file, '']) },
      order: { path: 'DESC' },
    });
    for (const commit of commits) {
      const own = rows.filter((r) => r.commit === commit);
      // Who saved the draft wrote it; who committed it did where that is all that is known.
      const written = own.filter((r) => r.path !== '');
      if (own.length)
        found.set(
          commit,
          (written.length ? written : own).map((r) => r.personId),
        );
    }
    return found;
  }

  private async keep(rows: readonly CommitAuthor[]): Promise<void> {
    for (let i = 0; i < rows.length; i += AT_ONCE)
      await this.authors
        .createQueryBuilder()
        .insert()
        .values(rows.slice(i, i + AT_ONCE))
        .orIgnore()
        .execute();
  }

  private async wrote(workspaceId: string, people: readonly string[]): Promise<void> {
    const at = currentTime();
    await this.writers.upsert(
      [...new Set(people)].map((personId) => ({ workspaceId, personId, at })),
      ['workspaceId', 'personId'],
    );
  }
}
