import { setImmediate as nextTurn } from 'node:timers/promises';
import { MAIN, PRODUCTION, WORKSPACE_BRANCHES, branchOf } from './branches.js';
import { DraftService, draftConflict } from './draft.service.js';
import type { Commit } from '@ouvrage/api/project';
import { Injectable, type OnModuleDestroy } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { indexFile, pathProblem } from '@ouvrage/core/index';
import {
  productionEnvironment,
  workspaceEnvironment,
  workspacePrefix,
  type Environment,
  type IndexedFile,
  type Project,
  type Server,
} from '@ouvrage/core/model';
import { changeFiles, readProject } from '@ouvrage/core/resolve';
import { IsNull, Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { ROLES } from '../shared/config.js';
import { notFound, Problem } from '../shared/problem.js';
import { FileIndexer } from './file-indexer.js';
import { GitStore, RefMoved, type TreeChange } from './git.js';
import { Draft, Workspace } from './project.entities.js';
import { isSlug, slugFor } from './slugs.js';
import { WithdrawalService } from './withdrawal.service.js';
import { WriterService } from './writer.service.js';

/** A place where definitions are built, and the files that it is built from. */
export interface Line {
  readonly slug: string;
  readonly workspace?: Workspace;
  readonly environment: Environment;
  readonly commit: string;
  readonly project: Project;
  readonly drafts: readonly Draft[];
}

/** Projects that are kept for the next question. */
const MOST_KEPT = 50;
/** Files of sources of which it is kept what they declare. */
const MOST_SERVER_FILES = 2000;

/** A commit's message with those who wrote parts of it. */
const withAuthors = (message: string, others: readonly Person[]): string =>
  others.length === 0
    ? message
    : `${message.trimEnd()}\n\n${others.map((p) => `Co-authored-by: ${p.displayName} <${author(p).email}>`).join('\n')}\n`;

const author = (person: Person) => ({ name: person.displayName, email: `${person.name}@ouvrage.invalid` });

/** Characters of a workspace's name. */
const MOST_NAME = 60;

/** Files, drafts, commits and workspaces of the project. */
@Injectable()
export class ProjectService implements OnModuleDestroy {
  /** The last project read for each line, for reading the next state from what changed only. */
  private readonly indexer = new FileIndexer();
  private firstCommit: Promise<string> | undefined;
  private readonly projects = new Map<string, { files: ReadonlyMap<string, string>; project: Project }>();

  /** Servers by the file that declares them and its text. */
  private readonly servers = new Map<string, readonly Server[]>();

  /** What was last made of each workspace for its review, and of what; none where it is the workspace's own project. */
  private readonly released = new Map<string, { readonly of: string; readonly project: Project | undefined }>();

  private adopting: Promise<void> = Promise.resolve();

  constructor(
    readonly git: GitStore,
    @InjectRepository(Workspace) private readonly workspaces: Repository<Workspace>,
    private readonly drafts: DraftService,
    private readonly writers: WriterService,
    private readonly withdrawals: WithdrawalService,
    private readonly people: PeopleService,
  ) {}

  async onModuleDestroy(): Promise<void> {
    this.git.close();
    await this.indexer.close();
  }

  /** Makes the repository, if there is none; its first commit holds `files`. */
  async create(files: ReadonlyMap<string, string>, message: string): Promise<void> {
    await this.git.create();
    if (await this.git.resolve(MAIN)) return;
    const tree = await this.git.changedTree(
      undefined,
      [...files].map(([path, text]) => ({ path, text })),
    );
    const commit = await this.git.commitTree(
      tree,
      [],
      { author: { name: 'Ouvrage', email: 'ouvrage@ouvrage.invalid' } },
      message,
    );
    await this.git.moveMain(commit, undefined);
  }

  /**
   * A workspace, for whatever changes something of one.
   * @throws Problem for production, which moves by releases only, and where there is none of this name
   */
  async workspace(slug: string): Promise<Workspace> {
    if (slug === PRODUCTION)
      throw new Problem(
        409,
        'is-production',
        'Production changes only through releases',
        'Choose a workspace, and release from there.',
      );
    const found = await this.workspaces.findOne({ where: { slug, closedAt: IsNull() }, relations: { owner: true } });
    if (!found) throw notFound(`The workspace ${slug}`);
    return found;
  }

  list(): Promise<Workspace[]> {
    return this.workspaces.find({
      where: { closedAt: IsNull() },
      relations: { owner: true },
      order: { createdAt: 'ASC' },
    });
  }

  async createWorkspace(person: Person, name: string, from?: string): Promise<Workspace> {
    return this.open(person, name, { all: await this.workspaces.find(), from });
  }

  /** @param of all workspaces that there ever were, which the new one joins; the commit that it begins with */
  private async open(
    person: Person,
    name: string,
    { all, from }: { readonly all: Workspace[]; readonly from: string | undefined },
  ): Promise<Workspace> {
    const slug = slugFor(name, new Set(all.map((w) => w.slug)));
    const prefix = workspacePrefix(slug, (p) => all.some((w) => w.prefix === p));
    const head = from ?? (await this.git.resolve(MAIN));
    if (!(await this.git.resolve(branchOf(slug)))) await this.git.moveBranch(branchOf(slug), head!, undefined);
    const made = await this.workspaces.save(
      this.workspaces.create({ slug, name, prefix, owner: person, closedAt: null }),
    );
    await this.people.audit(person, 'workspace opened', slug);
    all.push(made);
    return made;
  }

  /**
   * A workspace with what production was before a release, on top of what it is: releasing it withdraws that release and
   * those after it.
   * @param edits texts by path beside the earlier ones
   */
  async wayBack(
    person: Person,
    name: string,
    {
      to,
      edits,
      ...kept
    }: { to: string; edits: ReadonlyMap<string, string>; withdraws: readonly number[]; restores: boolean },
  ): Promise<Workspace> {
    const main = (await this.git.resolve(MAIN))!;
    const tree = await this.git.changedTree(
      to,
      [...edits].map(([path, text]) => ({ path, text })),
    );
    const commit = await this.git.commitTree(tree, [main], { author: author(person) }, name);
    const workspace = await this.createWorkspace(person, name, commit);
    await this.workspaces.update(workspace.id, { ...kept, withdraws: [...kept.withdraws] });
    await this.writers.committed(person, workspace, { commit, drafts: [] });
    return workspace;
  }

  /**
   * Branches that were pushed become workspaces of the person who pushed: those under workspace/ of their name, others
   * of one that is made from theirs, with the branch as another name of the workspace's.
   */
  adoptBranches(person: Person): Promise<void> {
    // One after the other: of one branch no two workspaces are made.
    this.adopting = this.adopting.catch(() => undefined).then(() => this.adopt(person));
    return this.adopting;
  }

  private async adopt(person: Person): Promise<void> {
    const all = await this.workspaces.find();
    const known = new Set(all.map((w) => w.slug));
    const others = await this.git.otherNames();
    for (const [ref, commit] of await this.git.branches('refs/heads/')) {
      if (ref === MAIN || ref.startsWith(WORKSPACE_BRANCHES) || others.has(ref)) continue;
      const name = ref.slice('refs/heads/'.length);
      const { slug } = await this.open(person, name.slice(0, MOST_NAME), { all, from: commit });
      known.add(slug);
      await this.git.nameAlso(ref, branchOf(slug));
    }
    for (const ref of (await this.git.branches(WORKSPACE_BRANCHES)).keys()) {
      const slug = ref.slice(WORKSPACE_BRANCHES.length);
      if (known.has(slug) || !isSlug(slug)) continue;
      const prefix = workspacePrefix(slug, (p) => all.some((w) => w.prefix === p));
      all.push(
        await this.workspaces.save(this.workspaces.create({ slug, name: slug, prefix, owner: person, closedAt: null })),
      );
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
    const drafts = workspace ? await this.drafts.of(workspace) : [];
    const files = await this.git.files(commit);
    for (const d of drafts) {
      if (d.text === null) files.delete(d.path);
      else files.set(d.path, d.text);
    }
    return {
      slug,
      workspace,
      environment: this.environmentOf(workspace),
      commit,
      drafts,
      project: await this.read(slug, files),
    };
  }

  /** What production runs. */
  async productionCommit(): Promise<string> {
    return (await this.git.resolve(MAIN))!;
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

  /** What tells this project from others, for as long as it lives: its first commit. */
  identity(): Promise<string> {
    return (this.firstCommit ??= this.git
      .git(['rev-list', '--max-parents=0', MAIN])
      .then((out) => out.split('\n')[0]!));
  }

  /** A project with one file as it is being written, and that file. */
  async withText(project: Project, path: string, text: string): Promise<{ project: Project; file: IndexedFile }> {
    const file = await this.indexer.index(path, text);
    const changed = changeFiles(project, new Map([[path, text]]), new Map([[path, file]]));
    return { project: changed, file: changed.files.get(path)! };
  }

  /** The large files among some that are not known yet, read. */
  private async readLarge(
    files: ReadonlyMap<string, string>,
    known: ReadonlyMap<string, string> | undefined,
  ): Promise<Map<string, IndexedFile>> {
    const read = new Map<string, IndexedFile>();
    for (const [path, text] of files)
      if (this.indexer.isLarge(text) && known?.get(path) !== text) {
        read.set(path, await this.indexer.index(path, text));
        // Taking it over from its thread holds everybody up for long enough: others are answered before it is gone on with.
        await nextTurn();
      }
    return read;
  }

  private async read(key: string, files: ReadonlyMap<string, string>): Promise<Project> {
    const large = await this.readLarge(files, this.projects.get(key)?.files);
    const known = this.projects.get(key);
    let project: Project;
    if (!known) project = readProject(files, undefined, large);
    else {
      const changes = new Map<string, string | null>();
      for (const [path, text] of files) if (known.files.get(path) !== text) changes.set(path, text);
      for (const path of known.files.keys()) if (!files.has(path)) changes.set(path, null);
      project = changes.size ? changeFiles(known.project, changes, large) : known.project;
    }
    if (this.projects.size > MOST_KEPT) this.projects.clear();
    this.projects.set(key, { files: new Map(files), project });
    if (large.size > 0) await nextTurn();
    return project;
  }

  /**
   * Servers that production or a workspace declares, drafts included: its files of sources are read and nothing else, as
   * all workspaces are asked at once.
   */
  async serversOf(slug: string): Promise<Server[]> {
    const workspace = slug === PRODUCTION ? undefined : await this.workspace(slug);
    const tree = await this.git.tree((await this.git.resolve(branchOf(slug))) ?? '');
    const texts = new Map<string, string | null>();
    for (const [path, blob] of tree) if (path.startsWith('sources/')) texts.set(path, await this.git.blob(blob));
    for (const { path, text } of workspace ? await this.drafts.of(workspace) : [])
      if (path.startsWith('sources/')) texts.set(path, text);
    return [...texts].flatMap(([path, text]) => (text === null ? [] : this.declared(path, text)));
  }

  private declared(path: string, text: string): readonly Server[] {
    const key = `${path}\n${text}`;
    let servers = this.servers.get(key);
    if (!servers) {
      if (this.servers.size > MOST_SERVER_FILES) this.servers.clear();
      this.servers.set(key, (servers = indexFile(path, text).servers));
    }
    return servers;
  }

  /** Workspaces that may hold something which production does not: with drafts, or a branch of their own. */
  async changed(): Promise<Workspace[]> {
    const [all, drafts, main, branches] = await Promise.all([
      this.list(),
      this.drafts.counts(),
      this.git.resolve(MAIN),
      this.git.branches(WORKSPACE_BRANCHES),
    ]);
    return all.filter((w) => drafts.has(w.id) || branches.get(branchOf(w.slug)) !== main);
  }

  /**
   * Commits drafts to the workspace's branch.
   * @throws Problem 409 when a committed file changed under a draft, with both texts
   */
  async commit(person: Person, slug: string, message: string, paths?: readonly string[]): Promise<Commit> {
    const workspace = await this.workspace(slug);
    const drafts = (await this.drafts.of(workspace)).filter((d) => !paths || paths.includes(d.path));
    if (drafts.length === 0) throw new Problem(409, 'nothing-to-commit', 'There are no drafts to commit');
    const ref = branchOf(slug);
    const head = await this.git.resolve(ref);
    const tree = await this.git.tree(head!);
    for (const d of drafts) {
      const now = tree.get(d.path) ?? null;
      if (now !== d.baseBlob)
        throw draftConflict(d.path, d.text, {
          text: now ? await this.git.blob(now) : null,
          by: 'a commit to the branch',
          version: d.version,
        });
    }
    const changes: TreeChange[] = drafts.map(({ path, text }) => ({ path, text }));
    const writers = await this.people.byIds([...new Set(drafts.flatMap((d) => [d.person.id, ...d.authors]))]);
    const [writer, ...others] = writers.some((w) => w.id === person.id)
      ? [person, ...writers.filter((w) => w.id !== person.id)]
      : writers;
    const changed = await this.git.changedTree(head, changes);
    const id = await this.git.commitTree(
      changed,
      [head!],
      { author: author(writer ?? person), committer: author(person) },
      withAuthors(message, others),
    );
    await this.writers.committed(person, workspace, { commit: id, drafts });
    await this.moveBranch(slug, id, head, 'Commit again; your drafts are kept.');
    await this.drafts.committed(workspace, drafts, await this.git.tree(id));
    await this.people.audit(person, 'commit', slug, {
      commit: id,
      files: changes.map((c) => c.path),
      authors: writers.map((w) => w.name),
    });
    for (const follow of this.afterCommit) await follow(person, slug);
    return (await this.git.log(id, { most: 1 }))[0]!;
  }

  /** What follows a commit to a workspace; registered by the modules that know it, and never in the way of the commit. */
  readonly afterCommit: ((person: Person, slug: string) => Promise<void>)[] = [];

  /** Moves a workspace's branch. @throws Problem 409 when someone else has moved it in between */
  private async moveBranch(slug: string, to: string, from: string | undefined, remedy: string): Promise<void> {
    await this.git.moveBranch(branchOf(slug), to, from).catch((error: unknown) => {
      if (error instanceof RefMoved)
        throw new Problem(409, 'branch-moved', 'Someone committed to this workspace in the meantime', remedy);
      throw error;
    });
  }

  /**
   * The tree that a release of a workspace would put into production: its branch merged with main.
   * @throws Problem 409 with both texts of every file in conflict
   */
  async mergedWithMain(slug: string): Promise<{ tree: string; head: string; main: string }> {
    const [head, main] = [await this.git.resolve(branchOf(slug)), await this.git.resolve(MAIN)];
    if (await this.git.isAncestor(main!, head!)) return { tree: `${head}^{tree}`, head: head!, main: main! };
    const merged = await this.git.merge(await this.productionFor(head!, main!), head!);
    if (merged.kind === 'merged') return { tree: merged.tree, head: head!, main: main! };
    const files = await Promise.all(
      merged.paths.map(async (path) => ({
        path,
        mine: (await this.git.fileAt(head!, path)) ?? null,
        theirs: (await this.git.fileAt(main!, path)) ?? null,
      })),
    );
    throw new Problem(
      409,
      'merge-conflict',
      `Production has changed ${merged.paths.join(', ')} since this workspace was opened`,
      'Resolve each file below: choose one of the texts, or merge them.',
      { files },
    );
  }

  /**
   * The project that production would become if a workspace's drafts were committed and released now. What others have
   * released since the workspace was opened is in it. Where that conflicts it is the workspace's own project.
   */
  async asReleased({ slug, commit, drafts, project }: Line): Promise<Project> {
    const main = (await this.git.resolve(MAIN))!;
    const of = [main, commit, ...drafts.map((d) => `${d.id} ${d.version}`)].join('\n');
    const known = this.released.get(slug);
    if (known?.of === of) return known.project ?? project;
    const merged = (await this.git.isAncestor(main, commit))
      ? undefined
      : await this.git.merge(
          await this.productionFor(commit, main),
          drafts.length === 0 ? commit : await this.drafted(commit, drafts),
        );
    const made = merged?.kind === 'merged' ? await this.projectAt(merged.tree) : undefined;
    if (this.released.size > MOST_KEPT) this.released.clear();
    this.released.set(slug, { of, project: made });
    return made ?? project;
  }

  /** What a commit is merged with to be released: production, but for what the commit holds that was withdrawn. */
  private async productionFor(commit: string, main: string): Promise<string> {
    const withdrawn = await this.withdrawals.of(commit);
    return withdrawn ? this.withdrawals.productionFor(withdrawn, main) : main;
  }

  /** A commit of drafts that no branch has; the same one for the same drafts. */
  private async drafted(commit: string, drafts: Line['drafts']): Promise<string> {
    const tree = await this.git.changedTree(commit, drafts);
    const author = { name: 'Ouvrage', email: 'ouvrage@localhost' };
    return this.git.commitTree(tree, [commit], { author, at: '2000-01-01T00:00:00Z' }, 'Drafts');
  }

  /** Merges main into a workspace; texts for files in conflict are given. */
  async takeProduction(
    person: Person,
    slug: string,
    settled: Readonly<Record<string, string | null>>,
  ): Promise<Commit> {
    const workspace = await this.workspace(slug);
    const ref = branchOf(slug);
    const [head, main] = [(await this.git.resolve(ref))!, (await this.git.resolve(MAIN))!];
    const withdrawn = await this.withdrawals.of(head);
    const merged = await this.git.merge(head, await this.productionFor(head, main));
    const open = merged.kind === 'conflict' ? merged.paths.filter((p) => !Object.hasOwn(settled, p)) : [];
    if (open.length) await this.mergedWithMain(slug);
    const conflicts = merged.kind === 'conflict' ? merged.paths : [];
    for (const path of Object.keys(settled)) {
      const problem = conflicts.includes(path) ? undefined : pathProblem(path);
      if (problem) throw new Problem(400, 'bad-path', `${path} is not a path of the project`, problem);
    }
    const changes = Object.entries(settled).map(([path, text]) => ({ path, text }));
    const tree = await this.git.changedTree(merged.tree, changes);
    const message = withdrawn
      ? `Merge production\n\nKeeps what was withdrawn: release ${withdrawn.releases.join(', ')}.`
      : 'Merge production';
    const id = await this.git.commitTree(tree, [head, main], { author: author(person) }, message);
    if (withdrawn) await this.writers.broughtAgain(workspace, head, withdrawn.before);
    await this.writers.committed(person, workspace, { commit: id, drafts: [] });
    await this.moveBranch(slug, id, head, 'Resolve the files again; your choices are still shown.');
    await this.people.audit(person, 'production merged', slug, { commit: id });
    return (await this.git.log(id, { most: 1 }))[0]!;
  }

  /** Records a released tree as a commit that is not on main yet. */
  async releaseCommit(
    person: Person,
    merged: { tree: string; head: string; main: string },
    message: string,
  ): Promise<string> {
    const tree = (await this.git.git(['rev-parse', merged.tree])).trim();
    return this.git.commitTree(tree, [merged.main, merged.head], { author: author(person) }, message);
  }
}
