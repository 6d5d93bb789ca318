import { Problem } from '../shared/problem.js';
import { branchOf } from './branches.js';
import { Person } from '../people/people.entities.js';
import { Repository } from 'typeorm';
import { Draft, Workspace } from './project.entities.js';
import { InjectRepository } from '@nestjs/typeorm';
import { GitStore } from './git.js';
import { Injectable } from '@nestjs/common';
import { currentTime } from '../shared/time.js';
const WRITERS = { person: true, savedBy: true } as const;
const UNIQUE_VIOLATION = '23505';

/** The drafts of workspaces: who writes one, who saved it last, and what it began from. */
@Injectable()
export class DraftService {
  constructor(
    private readonly git: GitStore,
    @InjectRepository(Draft) private readonly stored: Repository<Draft>,
  ) {}

  /** What follows a draft that was kept; registered by the modules that know it, and never in the way of the draft. */
  readonly afterKeep: ((workspace: Workspace) => void)[] = [];

  /** How many drafts each workspace has, by its id; none where there are none. */
  async counts(): Promise<Map<string, number>> {
    const rows = (await this.stored.query('select workspace_id as id, count(*)::int as n from draft group by 1')) as {
      id: string;
      n: number;
    }[];
    return new Map(rows.map((r) => [r.id, r.n]));
  }

  of(workspace: Workspace): Promise<Draft[]> {
    return this.stored.find({ where: { workspace: { id: workspace.id } }, relations: WRITERS, order: { path: 'ASC' } });
  }

  /**
   * Keeps a draft.
   * @param version the version that the person began from; 0 for a file without a draft
   * @throws Problem 409 with both texts when someone kept another one in between
   */
  async keep(person: Person, workspace: Workspace, draft: Pick<Draft, 'path' | 'text' | 'version'>): Promise<Draft> {
    const kept = await this.store(person, workspace, draft);
    for (const follow of this.afterKeep) follow(workspace);
    return kept;
  }

  private async store(
    person: Person,
    workspace: Workspace,
    { path, text, version }: Pick<Draft, 'path' | 'text' | 'version'>,
  ): Promise<Draft> {
    const where = { workspace: { id: workspace.id }, path };
    const commit = await this.git.resolve(branchOf(workspace.slug));
    const tree = await this.git.tree(commit!);
    const now = () => this.stored.findOne({ where, relations: WRITERS });
    /** What is in the way: another draft, or the committed file where that draft is gone again. */
    const inTheWay = async (other: Draft | null): Promise<Problem> =>
      other
        ? draftConflict(path, text, { text: other.text, by: other.savedBy.displayName, version: other.version })
        : draftConflict(path, text, {
            text: tree.has(path) ? await this.git.blob(tree.get(path)!) : null,
            by: 'a commit',
            version: 0,
          });
    const current = await now();
    if (!current) {
      if (version !== 0) throw await inTheWay(null);
      const draft = this.stored.create({
        workspace,
        path,
        text,
        baseBlob: tree.get(path) ?? null,
        version: 1,
        person,
        savedBy: person,
        authors: [person.id],
      });
      try {
        await this.stored.insert(draft);
      } catch (error) {
        if ((error as { code?: unknown }).code !== UNIQUE_VIOLATION) throw error;
        throw await inTheWay(await now());
      }
      return (await now()) ?? draft;
    }
    // It stays the draft of who began it; whoever saves it is one of its authors from then on.
    const authors = [...new Set([...current.authors, person.id])];
    const saved = { text, version: version + 1, savedBy: person, authors, updatedAt: currentTime() };
    const kept = await this.stored.update({ id: current.id, version }, saved);
    if (!kept.affected) throw await inTheWay(await now());
    return (await now()) ?? this.stored.create({ ...current, ...saved });
  }

  async drop(workspace: Workspace, path: string): Promise<void> {
    await this.stored.delete({ workspace: { id: workspace.id }, path });
  }

  /** Drops drafts that were committed; one that was saved again meanwhile goes on from the new commit. @param tree the new commit's files */
  async committed(workspace: Workspace, drafts: readonly Draft[], tree: ReadonlyMap<string, string>): Promise<void> {
    for (const d of drafts) await this.stored.delete({ id: d.id, version: d.version });
    for (const d of await this.of(workspace)) await this.stored.update(d.id, { baseBlob: tree.get(d.path) ?? null });
  }

  /** A draft goes on from what is committed now, keeping its text: after a conflict was settled. */
  async rebase(workspace: Workspace, path: string): Promise<void> {
    const tree = await this.git.tree((await this.git.resolve(branchOf(workspace.slug)))!);
    await this.stored.update({ workspace: { id: workspace.id }, path }, { baseBlob: tree.get(path) ?? null });
  }
}

/** A draft that someone else changed, or a file that was committed meanwhile, with both texts. */
export function draftConflict(
  path: string,
  mine: string | null,
  theirs: { text: string | null; by: string; version: number },
): Problem {
  return new Problem(
    409,
    'draft-conflict',
    `${path} was changed by ${theirs.by} in the meantime`,
    'Both texts are below: choose one, or merge them.',
    { path, mine, theirs: theirs.text, by: theirs.by, version: theirs.version },
  );
}
