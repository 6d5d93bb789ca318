import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { Repository } from 'typeorm';
import { GitStore } from './git.js';
import { Workspace } from './project.entities.js';

/** A release that withdrew others. */
interface WayBack {
  readonly commit: string;
  /** What production ran before the first one that it withdrew, and what the last one made of it. */
  readonly before: string;
  readonly last: string;
  readonly withdraws: readonly number[];
}

/** What a line of work holds of releases that production has gone back from. */
export interface Withdrawn {
  /** The newest commit of production that came before all of them. */
  readonly before: string;
  readonly releases: readonly number[];
}

/**
 * Production goes back by a commit with the earlier tree, so that what it withdraws stays among its ancestors: a plain
 * merge would take the withdrawal for an edit, and delete the withdrawn work wherever somebody goes on from it.
 */
@Injectable()
export class WithdrawalService {
  constructor(
    private readonly git: GitStore,
    @InjectRepository(Workspace) private readonly workspaces: Repository<Workspace>,
  ) {}

  /** What a commit holds of withdrawn releases, where it was made before production went back from them. */
  async of(commit: string): Promise<Withdrawn | undefined> {
    const held: WayBack[] = [];
    for (const back of await this.waysBack())
      if (!(await this.git.isAncestor(back.commit, commit)) && (await this.holdsAny(commit, back))) held.push(back);
    const [first] = held;
    return first && { before: first.before, releases: [...new Set(held.flatMap((b) => b.withdraws))] };
  }

  /**
   * Production as work that holds withdrawn releases is merged with it: all that was released since they came, on what
   * production was before them. The same commit for the same state; no branch has it.
   */
  async productionFor({ before }: Withdrawn, main: string): Promise<string> {
    const author = { name: 'Ouvrage', email: 'ouvrage@localhost' };
    const tree = (await this.git.git(['rev-parse', `${main}^{tree}`])).trim();
    return this.git.commitTree(tree, [before], { author, at: '2000-01-01T00:00:00Z' }, 'Production');
  }

  /** Whether a commit has any commit among its ancestors that the withdrawn releases brought. */
  private async holdsAny(commit: string, { before, last }: WayBack): Promise<boolean> {
    const count = (...not: readonly string[]) => this.git.git(['rev-list', '--count', last, '--not', before, ...not]);
    return (await count()) !== (await count(commit));
  }

  private waysBack(): Promise<WayBack[]> {
    return this.workspaces.manager.query<WayBack[]>(
      `select b.commit, f.commit_before as before, l.commit as last, b.withdraws from release b
       join release f on f.id = b.withdraws[1] join release l on l.id = b.withdraws[cardinality(b.withdraws)]
       where cardinality(b.withdraws) > 0 and f.commit_before is not null order by b.id`,
    );
  }
}
