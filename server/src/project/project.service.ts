import { Inject, Injectable, type OnModuleDestroy } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { changeFiles, productionEnvironment, readProject, workspaceEnvironment, workspacePrefix, type Environment, type Project } from '@ouvrage/core';
import { IsNull, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { Config, ROLES } from '../shared/config.js';
import { notFound, Problem } from '../shared/problem.js';
import { GitStore, RefMoved, type Commit, type TreeChange } from './git.js';
import { Draft, Workspace } from './project.entities.js';

export const PRODUCTION = 'production';
export const MAIN = 'refs/heads/main';
export const branchOf = (slug: string) => (slug === PRODUCTION ? MAIN : `refs/heads/workspace/${slug}`);

/** A place where definitions are built, and the files that it is built from. */
export interface Line {
  readonly slug: string;
  readonly workspace?: Workspace;
  readonly environment: Environment;
  readonly commit: string;
  readonly project: Project;
  readonly drafts: readonly Draft[];
}

const author = (person: Person) => ({ name: person.displayName, email: `${person.name}@ouvrage.invalid` });

/** Files, drafts, commits and workspaces of the project. */
@Injectable()
export class ProjectService implements OnModuleDestroy {
  readonly git: GitStore;
  /** The last project read for each line, for reading the next state from what changed only. */
  private readonly projects = new Map<string, { files: ReadonlyMap<string, string>; project: Project }>();

  constructor(
    @Inject(Config) config: Config,
    @InjectRepository(Workspace) private readonly workspaces: Repository<Workspace>,
    @InjectRepository(Draft) private readonly drafts: Repository<Draft>,
    private readonly people: PeopleService,
  ) {
    this.git = new GitStore(config.projectFolder);
  }

  onModuleDestroy(): void {
    this.git.close();
  }

  /** Makes the repository; its first commit holds `files`. */
  async create(files: ReadonlyMap<string, string>, message: string): Promise<void> {
    await this.git.create();
    if (await this.git.resolve(MAIN)) return;
    const tree = await this.git.changedTree(
      undefined,
      [...files].map(([path, text]) => ({ path, text })),
    );
    const commit = await this.git.commitTree(tree, [], { name: 'Ouvrage', email: 'ouvrage@ouvrage.invalid' }, message);
    await this.git.moveRef(MAIN, commit, undefined);
  }

  async workspace(slug: string): Promise<Workspace> {
    const found = await this.workspaces.findOne({ where: { slug, closedAt: IsNull() }, relations: { owner: true } });
    if (!found) throw notFound(`The workspace ${slug}`);
    return found;
  }

  list(): Promise<Workspace[]> {
    return this.workspaces.find({ where: { closedAt: IsNull() }, relations: { owner: true }, order: { createdAt: 'ASC' } });
  }

  async createWorkspace(person: Person, name: string, from?: string): Promise<Workspace> {
    const base =
      name
        .normalize('NFKD')
        .toLowerCase()
        .replaceAll(/[^a-z0-9]+/g, '-')
        .replaceAll(/^-+|-+$/g, '')
        .slice(0, 40) || 'workspace';
    const all = await this.workspaces.find();
    const slugs = new Set([...all.map((w) => w.slug), PRODUCTION]);
    let slug = base;
    for (let n = 2; slugs.has(slug); n++) slug = `${base}-${n}`;
    const prefix = workspacePrefix(slug, (p) => all.some((w) => w.prefix === p));
    const head = from ?? (await this.git.resolve(MAIN));
    if (!(await this.git.resolve(branchOf(slug)))) await this.git.moveRef(branchOf(slug), head!, undefined);
    const made = await this.workspaces.save(this.workspaces.create({ slug, name, prefix, owner: person, closedAt: null }));
    await this.people.audit(person, 'workspace opened', slug);
    return made;
  }

  /** Branches that were pushed under workspace/ become workspaces of the person who pushed. */
  async adoptBranches(person: Person): Promise<void> {
    const known = new Set((await this.workspaces.find()).map((w) => w.slug));
    for (const ref of (await this.git.branches('refs/heads/workspace/')).keys()) {
      const slug = ref.slice('refs/heads/workspace/'.length);
      if (known.has(slug) || !/^[a-z0-9][a-z0-9-]{0,39}$/.test(slug)) continue;
      const prefix = workspacePrefix(slug, () => false);
      await this.workspaces.save(this.workspaces.create({ slug, name: slug, prefix, owner: person, closedAt: null }));
      await this.people.audit(person, 'workspace opened by a push', slug);
    }
  }

  environmentOf(workspace: Workspace | undefined): Environment {
    if (!workspace) return productionEnvironment([ROLES.reader, ROLES.workspace]);
    return workspaceEnvironment(workspace.prefix, [ROLES.reader]);
  }

  /** The state of production or a workspace: its commit, drafts over it, and the project that they make. */
  async line(slug: string): Promise<Line> {
    const workspace = slug === PRODUCTION ? undefined : await this.workspace(slug);
    const commit = await this.git.resolve(branchOf(slug));
    if (!commit) throw notFound(`The branch of ${slug}`);
    const drafts = workspace ? await this.draftsOf(workspace) : [];
    const files = await this.git.files(commit);
    for (const d of drafts) {
      if (d.text === null) files.delete(d.path);
      else files.set(d.path, d.text);
    }
    return { slug, workspace, environment: this.environmentOf(workspace), commit, drafts, project: this.read(slug, files) };
  }

  /** The project of a commit with files over it. */
  async projectAt(commit: string, overlay: Readonly<Record<string, string | null>> = {}): Promise<Project> {
    const files = await this.git.files(commit);
    for (const [path, text] of Object.entries(overlay)) {
      if (text === null) files.delete(path);
      else files.set(path, text);
    }
    return this.read(`commit:${commit.slice(0, 2)}`, files);
  }

  private read(key: string, files: ReadonlyMap<string, string>): Project {
    const known = this.projects.get(key);
    let project: Project;
    if (!known) project = readProject(files);
    else {
      const changes = new Map<string, string | null>();
      for (const [path, text] of files) if (known.files.get(path) !== text) changes.set(path, text);
      for (const path of known.files.keys()) if (!files.has(path)) changes.set(path, null);
      project = changes.size ? changeFiles(known.project, changes) : known.project;
    }
    if (this.projects.size > 50) this.projects.clear();
    this.projects.set(key, { files: new Map(files), project });
    return project;
  }

  draftsOf(workspace: Workspace): Promise<Draft[]> {
    return this.drafts.find({ where: { workspace: { id: workspace.id } }, relations: { person: true }, order: { path: 'ASC' } });
  }

  /**
   * Keeps a draft.
   * @param version the version that the person began from; 0 for a file without a draft
   * @throws Problem 409 with both texts when someone kept another one in between
   */
  async keepDraft(person: Person, slug: string, path: string, text: string | null, version: number): Promise<Draft> {
    const workspace = await this.workspace(slug);
    const where = { workspace: { id: workspace.id }, path };
    const commit = await this.git.resolve(branchOf(slug));
    const tree = await this.git.tree(commit!);
    const current = await this.drafts.findOne({ where, relations: { person: true } });
    if (!current) {
      if (version !== 0)
        throw await this.conflict(path, text, { text: tree.has(path) ? await this.git.blob(tree.get(path)!) : null, by: 'a commit', version: 0 });
      const draft = this.drafts.create({ workspace, path, text, baseBlob: tree.get(path) ?? null, version: 1, person });
      try {
        await this.drafts.insert(draft);
      } catch {
        const other = await this.drafts.findOneOrFail({ where, relations: { person: true } });
        throw await this.conflict(path, text, { text: other.text, by: other.person.displayName, version: other.version });
      }
      return this.drafts.findOneOrFail({ where, relations: { person: true } });
    }
    const kept = await this.drafts.update({ id: current.id, version }, { text, version: version + 1, person });
    if (!kept.affected) {
      const other = await this.drafts.findOneOrFail({ where, relations: { person: true } });
      throw await this.conflict(path, text, { text: other.text, by: other.person.displayName, version: other.version });
    }
    return this.drafts.findOneOrFail({ where, relations: { person: true } });
  }

  private async conflict(path: string, mine: string | null, theirs: { text: string | null; by: string; version: number }): Promise<Problem> {
    return new Problem(
      409,
      'draft-conflict',
      `${path} was changed by ${theirs.by} in the meantime`,
      'Both texts are kept below: take one of them, or put them together.',
      { path, mine, theirs: theirs.text, by: theirs.by, version: theirs.version },
    );
  }

  async dropDraft(slug: string, path: string): Promise<void> {
    const workspace = await this.workspace(slug);
    await this.drafts.delete({ workspace: { id: workspace.id }, path });
  }

  /**
   * Commits drafts to the workspace's branch.
   * @throws Problem 409 when a committed file changed under a draft, with both texts
   */
  async commit(person: Person, slug: string, message: string, paths?: readonly string[]): Promise<Commit> {
    const workspace = await this.workspace(slug);
    const drafts = (await this.draftsOf(workspace)).filter((d) => !paths || paths.includes(d.path));
    if (drafts.length === 0) throw new Problem(409, 'nothing-to-commit', 'There is no draft to commit');
    const ref = branchOf(slug);
    const head = await this.git.resolve(ref);
    const tree = await this.git.tree(head!);
    for (const d of drafts) {
      const now = tree.get(d.path) ?? null;
      if (now !== d.baseBlob)
        throw await this.conflict(d.path, d.text, { text: now ? await this.git.blob(now) : null, by: 'a commit to the branch', version: d.version });
    }
    const changes: TreeChange[] = drafts.map(({ path, text }) => ({ path, text }));
    const id = await this.git.commitTree(await this.git.changedTree(head, changes), [head!], author(person), message);
    await this.git.moveRef(ref, id, head).catch((error: unknown) => {
      if (error instanceof RefMoved)
        throw new Problem(409, 'branch-moved', 'Someone committed to this workspace in the meantime', 'Commit again; your drafts are kept.');
      throw error;
    });
    for (const d of drafts) await this.drafts.delete({ id: d.id, version: d.version });
    // A draft that was kept again meanwhile now stands over the new commit.
    const after = await this.git.tree(id);
    for (const d of await this.draftsOf(workspace)) await this.drafts.update(d.id, { baseBlob: after.get(d.path) ?? null });
    await this.people.audit(person, 'commit', slug, { commit: id, files: changes.map((c) => c.path) });
    return (await this.git.log(id, { most: 1 }))[0]!;
  }

  /** The draft of a file begins anew from what is committed now, keeping its text: after a conflict was settled. */
  async rebaseDraft(slug: string, path: string): Promise<void> {
    const workspace = await this.workspace(slug);
    const tree = await this.git.tree((await this.git.resolve(branchOf(slug)))!);
    await this.drafts.update({ workspace: { id: workspace.id }, path }, { baseBlob: tree.get(path) ?? null });
  }

  /**
   * The tree that a release of a workspace would put into production: its branch merged with main.
   * @throws Problem 409 with both texts of every file in conflict
   */
  async mergedWithMain(slug: string): Promise<{ tree: string; head: string; main: string }> {
    const [head, main] = [await this.git.resolve(branchOf(slug)), await this.git.resolve(MAIN)];
    if (await this.git.isAncestor(main!, head!)) return { tree: `${head}^{tree}`, head: head!, main: main! };
    const merged = await this.git.merge(main!, head!);
    if (merged.kind === 'merged') return { tree: merged.tree, head: head!, main: main! };
    const files = await Promise.all(
      merged.paths.map(async (path) => ({ path, mine: (await this.git.fileAt(head!, path)) ?? null, theirs: (await this.git.fileAt(main!, path)) ?? null })),
    );
    throw new Problem(
      409,
      'merge-conflict',
      `Production has changed ${merged.paths.join(', ')} since this workspace was opened`,
      'Settle each file below: take one of the texts, or put them together.',
      { files },
    );
  }

  /** Merges main into a workspace; texts for files in conflict are given. */
  async takeProduction(person: Person, slug: string, settled: Readonly<Record<string, string | null>>): Promise<Commit> {
    const ref = branchOf(slug);
    const [head, main] = [(await this.git.resolve(ref))!, (await this.git.resolve(MAIN))!];
    const merged = await this.git.merge(head, main);
    const open = merged.kind === 'conflict' ? merged.paths.filter((p) => !(p in settled)) : [];
    if (merged.kind === 'conflict' && open.length) await this.mergedWithMain(slug);
    const changes = Object.entries(settled).map(([path, text]) => ({ path, text }));
    const tree = await this.git.changedTree(merged.tree, changes);
    const id = await this.git.commitTree(tree, [head, main], author(person), `Take over production`);
    await this.git.moveRef(ref, id, head);
    await this.people.audit(person, 'production taken over', slug, { commit: id });
    return (await this.git.log(id, { most: 1 }))[0]!;
  }

  /** Records a released tree as a commit that is not on main yet. */
  async releaseCommit(person: Person, merged: { tree: string; head: string; main: string }, message: string): Promise<string> {
    const tree = (await this.git.git(['rev-parse', merged.tree])).trim();
    return this.git.commitTree(tree, [merged.main, merged.head], author(person), message);
  }
}
