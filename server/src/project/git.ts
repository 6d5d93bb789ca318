import type { Commit } from '@ouvrage/api/project';
import { asInstant } from '../shared/answers.js';
import { spawn, type ChildProcessWithoutNullStreams } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync } from 'node:fs';
import { chmod, rm } from 'node:fs/promises';
import path from 'node:path';
import { currentTime } from '../shared/time.js';

export interface TreeChange {
  readonly path: string;
  /** The new text; null deletes the file. */
  readonly text: string | null;
}

/** Who wrote a commit, and who put it on a branch. */
export interface Signature {
  readonly author: { readonly name: string; readonly email: string };
  readonly committer?: { readonly name: string; readonly email: string };
  /** ISO 8601; now, where it is not given. */
  readonly at?: string;
}

export type MergeResult =
  | { readonly kind: 'merged'; readonly tree: string }
  | {
      readonly kind: 'conflict';
      readonly paths: readonly string[];
      /** With marks in the files in conflict. */ readonly tree: string;
    };

const MAIN = 'refs/heads/main';
const WORKSPACES = 'refs/heads/workspace/';
/** A mark for each workspace that was deleted: its name is not pushed again. */
const DELETED = 'refs/deleted/';

const SETTINGS = [
  ['http.receivepack', 'true'],
  ['receive.denyNonFastForwards', 'true'],
  ['receive.denyDeletes', 'true'],
  // Objects that would leave a working tree, or that no git program writes, are refused as they arrive.
  ['receive.fsckObjects', 'true'],
  ['core.logAllRefUpdates', 'true'],
] as const;

/** An object's id, as against a name that may come to mean another one. */
const FULL_ID = /^[0-9a-f]{40}$/;

/** A branch was moved by someone else in the meantime. */
export class RefMoved extends Error {}

/**
 * A bare repository through git's plumbing. Reading goes through one kept `cat-file --batch`
 * process; a branch moves only by compare-and-swap.
 */
export class GitStore {
  private batch?: ChildProcessWithoutNullStreams;
  private buffered = Buffer.alloc(0);
  private readonly waiting: { resolve: (text: string) => void; reject: (error: Error) => void }[] = [];
  private readonly blobs = new Map<string, string>();
  private readonly trees = new Map<string, ReadonlyMap<string, string>>();

  constructor(readonly folder: string) {}

  /** Makes the repository where there is none, and gives one that is there today's settings. */
  async create(): Promise<void> {
    if (!existsSync(path.join(this.folder, 'HEAD')))
      await runGit(undefined, ['init', '--bare', '--quiet', '--initial-branch=main', this.folder]);
    await chmod(this.folder, 0o700);
    for (const [name, value] of SETTINGS) await this.git(['config', name, value]);
  }

  close(): void {
    this.batch?.kill();
  }

  /** @throws Error with git's own words when it fails */
  git(args: readonly string[], options: { input?: string; env?: Record<string, string> } = {}): Promise<string> {
    return runGit(this.folder, args, options);
  }

  /** The commit of a branch, undefined if there is none. */
  async resolve(ref: string): Promise<string | undefined> {
    const out = await this.git(['rev-parse', '--verify', '--quiet', `${ref}^{commit}`]).catch(() => '');
    return out.trim() || undefined;
  }

  /** Blob ids by path. @param commit a full id: what it names never changes, and stays in memory */
  async tree(commit: string): Promise<ReadonlyMap<string, string>> {
    const known = this.trees.get(commit);
    if (known) return known;
    // A link or a submodule is no file of the project.
    const entries = new Map(
      (await this.entries(commit)).flatMap((e) => (e.mode.startsWith('100') ? [[e.path, e.id] as const] : [])),
    );
    if (this.trees.size > 100) this.trees.clear();
    if (FULL_ID.test(commit)) this.trees.set(commit, entries);
    return entries;
  }

  /** All that a commit holds, links and submodules included. */
  async entries(commit: string): Promise<{ readonly mode: string; readonly id: string; readonly path: string }[]> {
    const out = await this.git(['ls-tree', '-r', '-z', '--full-tree', commit]);
    return out.split('\0').flatMap((line) => {
      const match = /^(\d+) \w+ ([0-9a-f]+)\t(.+)$/s.exec(line);
      return match ? [{ mode: match[1]!, id: match[2]!, path: match[3]! }] : [];
    });
  }

  /** Texts by path. */
  async files(commit: string): Promise<Map<string, string>> {
    const tree = await this.tree(commit);
    const texts = await Promise.all([...tree].map(async ([file, blob]) => [file, await this.blob(blob)] as const));
    return new Map(texts);
  }

  /** Texts by path of files that differ between two commits; null for those that are gone. Undefined where the earlier one is not known. */
  async changedFiles(since: string, commit: string): Promise<Map<string, string | null> | undefined> {
    if (!(await this.resolve(since))) return undefined;
    const [before, after] = [await this.tree(since), await this.tree(commit)];
    const changed = [...after].filter(([file, blob]) => before.get(file) !== blob);
    const texts = await Promise.all(changed.map(async ([file, blob]) => [file, await this.blob(blob)] as const));
    const gone = [...before.keys()].filter((file) => !after.has(file)).map((file) => [file, null] as const);
    return new Map([...texts, ...gone]);
  }

  async fileAt(commit: string, file: string): Promise<string | undefined> {
    const blob = await this.git(['rev-parse', '--verify', '--quiet', `${commit}:${file}`]).catch(() => '');
    return blob.trim() ? this.blob(blob.trim()) : undefined;
  }

  /** A blob's text; texts stay in memory, as a blob never changes. */
  async blob(id: string): Promise<string> {
    const known = this.blobs.get(id);
    if (known !== undefined) return known;
    const text = await new Promise<string>((resolve, reject) => {
      this.waiting.push({ resolve, reject });
      this.reader().stdin.write(`${id}\n`);
    });
    if (this.blobs.size > 20_000) this.blobs.clear();
    this.blobs.set(id, text);
    return text;
  }

  private reader(): ChildProcessWithoutNullStreams {
    if (this.batch && this.batch.exitCode === null) return this.batch;
    const child = spawn('git', ['--git-dir', this.folder, 'cat-file', '--batch'], {
      stdio: 'pipe',
      env: gitEnvironment(),
    });
    const ended = (why: string) => {
      if (this.batch !== child) return;
      this.batch = undefined;
      this.buffered = Buffer.alloc(0);
      for (const w of this.waiting.splice(0)) w.reject(new Error(why));
    };
    child.stdout.on('data', (data: Buffer) => {
      this.buffered = Buffer.concat([this.buffered, data]);
      this.takeBuffered();
    });
    child.stdin.on('error', () => ended('git cat-file ended'));
    child.on('error', (error) => ended(`git cannot be run: ${error.message}`));
    child.on('close', () => ended('git cat-file ended'));
    return (this.batch = child);
  }

  private takeBuffered(): void {
    for (;;) {
      const lineEnd = this.buffered.indexOf(10);
      if (lineEnd < 0) return;
      const head = this.buffered.subarray(0, lineEnd).toString();
      const size = /^[0-9a-f]+ \w+ (\d+)$/.exec(head)?.[1];
      if (size === undefined) {
        this.buffered = this.buffered.subarray(lineEnd + 1);
        this.waiting.shift()?.reject(new Error(head));
        continue;
      }
      const end = lineEnd + 1 + Number(size);
      if (this.buffered.length < end + 1) return;
      const text = this.buffered.subarray(lineEnd + 1, end).toString('utf8');
      this.buffered = this.buffered.subarray(end + 1);
      this.waiting.shift()?.resolve(text);
    }
  }

  /** The tree of a commit with some files changed. */
  async changedTree(base: string | undefined, changes: readonly TreeChange[]): Promise<string> {
    const index = path.join(this.folder, `index-${randomBytes(6).toString('hex')}`);
    const env = { GIT_INDEX_FILE: index };
    try {
      await this.git(base === undefined ? ['read-tree', '--empty'] : ['read-tree', base], { env });
      const lines: string[] = [];
      // One after the other: each is a process, and many at once hold everybody up.
      for (const { path: file, text } of changes) {
        const blob = text === null ? undefined : await this.git(['hash-object', '-w', '--stdin'], { input: text });
        lines.push(blob === undefined ? `0 ${'0'.repeat(40)}\t${file}\0` : `100644 ${blob.trim()}\t${file}\0`);
      }
      await this.git(['update-index', '-z', '--index-info'], { env, input: lines.join('') });
      return (await this.git(['write-tree'], { env })).trim();
    } finally {
      await rm(index, { force: true });
    }
  }

  async commitTree(
    tree: string,
    parents: readonly string[],
    { author, committer = author, at = currentTime().toISOString() }: Signature,
    message: string,
  ): Promise<string> {
    const env = {
      GIT_AUTHOR_NAME: author.name,
      GIT_AUTHOR_EMAIL: author.email,
      GIT_COMMITTER_NAME: committer.name,
      GIT_COMMITTER_EMAIL: committer.email,
      GIT_AUTHOR_DATE: at,
      GIT_COMMITTER_DATE: at,
    };
    return (
      await this.git(['commit-tree', tree, ...parents.flatMap((p) => ['-p', p]), '-F', '-'], { env, input: message })
    ).trim();
  }

  /** Moves a workspace's branch from one commit to another. @throws RefMoved when it is elsewhere by now */
  async moveBranch(ref: string, to: string, from: string | undefined): Promise<void> {
    if (!ref.startsWith(WORKSPACES)) throw new Error(`${ref} is not the branch of a workspace`);
    await this.moveRef(ref, to, from);
  }

  /** Makes a branch another name of a workspace's: whatever moves one moves both. */
  async nameAlso(name: string, ref: string): Promise<void> {
    if (!ref.startsWith(WORKSPACES) || name.startsWith(WORKSPACES) || name === MAIN)
      throw new Error(`${name} cannot be another name of ${ref}`);
    await this.git(['symbolic-ref', name, ref]);
  }

  /** Branches that are other names of others, by what they name. */
  async otherNames(): Promise<Map<string, string>> {
    const out = await this.git(['for-each-ref', '--format=%(refname) %(symref)', 'refs/heads/']);
    const lines = out.split('\n').map((line) => line.split(' ') as [string, string]);
    return new Map(lines.filter(([, named]) => named));
  }

  /** Deletes the branch of a workspace with its other names, and remembers that there was one. */
  async deleteBranch(ref: string): Promise<void> {
    if (!ref.startsWith(WORKSPACES)) throw new Error(`${ref} is not the branch of a workspace`);
    for (const [name, named] of await this.otherNames())
      if (named === ref) await this.git(['symbolic-ref', '--delete', name]);
    await this.git(['update-ref', `${DELETED}${ref.slice(WORKSPACES.length)}`, (await this.resolve(MAIN))!]);
    await this.git(['update-ref', '-d', ref]);
  }

  /** Whether a workspace of this name was deleted. */
  async isDeleted(slug: string): Promise<boolean> {
    return (await this.resolve(`${DELETED}${slug}`)) !== undefined;
  }

  /** Moves main, which production is built from: the only way to. @throws RefMoved when it is elsewhere by now */
  moveMain(to: string, from: string | undefined): Promise<void> {
    return this.moveRef(MAIN, to, from);
  }

  private async moveRef(ref: string, to: string, from: string | undefined): Promise<void> {
    await this.git(['update-ref', ref, to, from ?? '0'.repeat(40)]).catch(async (error: unknown) => {
      if ((await this.resolve(ref)) !== from) throw new RefMoved(`${ref} was moved in the meantime`);
      throw error;
    });
  }

  /** The tree of merging two commits, or the files in which they conflict. */
  async merge(ours: string, theirs: string): Promise<MergeResult> {
    const { code, out } = await runGitRaw(this.folder, [
      'merge-tree',
      '--write-tree',
      '--name-only',
      '--no-messages',
      '-z',
      ours,
      theirs,
    ]);
    const [tree = '', ...paths] = out.split('\0').filter((p) => p !== '');
    if (code === 0) return { kind: 'merged', tree };
    if (code === 1) return { kind: 'conflict', paths: [...new Set(paths)], tree };
    throw new Error(`git merge-tree ended with ${code}`);
  }

  async isAncestor(ancestor: string, of: string): Promise<boolean> {
    return (await runGitRaw(this.folder, ['merge-base', '--is-ancestor', ancestor, of])).code === 0;
  }

  async mergeBase(a: string, b: string): Promise<string | undefined> {
    return (await this.git(['merge-base', a, b]).catch(() => '')).trim() || undefined;
  }

  /** Commits of a branch, or of one file on it, newest first. */
  async log(ref: string, options: { file?: string; most?: number; notIn?: string } = {}): Promise<Commit[]> {
    const range = options.notIn === undefined ? [ref] : [`${options.notIn}..${ref}`];
    const out = await this.git([
      'log',
      `--max-count=${options.most ?? 100}`,
      '--format=%H%x00%an%x00%aI%x00%B%x01',
      ...range,
      ...(options.file === undefined ? [] : ['--', options.file]),
    ]);
    return out.split('\x01').flatMap((entry) => {
      const [id, author, at, message] = entry.trim().split('\0');
      return id ? [{ id, author: author!, at: asInstant(at!), message: (message ?? '').trim() }] : [];
    });
  }

  /** The commit that each line of a file is from, and the author that it names. */
  async lines(commit: string, file: string): Promise<{ readonly commit: string; readonly author: string }[]> {
    const out = await this.git(['blame', '--line-porcelain', commit, '--', file]);
    const found: { commit: string; author: string }[] = [];
    let [id, author] = ['', ''];
    for (const line of out.split('\n'))
      if (line.startsWith('\t')) found.push({ commit: id, author });
      else if (line.startsWith('author ')) author = line.slice('author '.length);
      else if (/^[0-9a-f]{40} /.test(line)) id = line.slice(0, 40);
    return found;
  }

  /** When the newest commit of each branch was made. */
  async committedAt(prefix: string): Promise<Map<string, Date>> {
    const out = await this.git(['for-each-ref', '--format=%(refname) %(committerdate:unix)', prefix]);
    const lines = out.split('\n').filter(Boolean);
    return new Map(
      lines.map((line) => {
        const [ref, seconds] = line.split(' ') as [string, string];
        return [ref, new Date(1000 * Number(seconds))];
      }),
    );
  }

  async branches(prefix: string): Promise<Map<string, string>> {
    const out = await this.git(['for-each-ref', '--format=%(refname) %(objectname)', prefix]);
    return new Map(
      out
        .split('\n')
        .filter(Boolean)
        .map((line) => line.split(' ') as [string, string]),
    );
  }
}

/** Nothing of the person's own git configuration is used. */
export function gitEnvironment(): Record<string, string> {
  return {
    PATH: process.env['PATH'] ?? '/usr/bin:/bin',
    GIT_CONFIG_NOSYSTEM: '1',
    GIT_CONFIG_GLOBAL: '/dev/null',
    HOME: '/nonexistent',
    LC_ALL: 'C.UTF-8',
    // A replacement would swap contents under an unchanged commit.
    GIT_NO_REPLACE_OBJECTS: '1',
    GIT_CONFIG_COUNT: '2',
    GIT_CONFIG_KEY_0: 'safe.directory',
    GIT_CONFIG_VALUE_0: '*',
    // Marks of the application's own are nobody else's to see or to push.
    GIT_CONFIG_KEY_1: 'transfer.hideRefs',
    GIT_CONFIG_VALUE_1: DELETED.slice(0, -1),
  };
}

function runGitRaw(
  folder: string | undefined,
  args: readonly string[],
  options: { input?: string; env?: Record<string, string> } = {},
): Promise<{ code: number | null; out: string; err: string }> {
  return new Promise((resolve, reject) => {
    const child = spawn('git', [...(folder === undefined ? [] : ['--git-dir', folder]), ...args], {
      stdio: 'pipe',
      env: { ...gitEnvironment(), ...options.env },
    });
    const out: Buffer[] = [];
    let err = '';
    child.stdout.on('data', (d: Buffer) => out.push(d));
    child.stderr.on('data', (d: Buffer) => (err += d.toString()));
    child.on('error', reject);
    child.on('close', (code) => resolve({ code, out: Buffer.concat(out).toString('utf8'), err }));
    child.stdin.on('error', () => undefined);
    child.stdin.end(options.input ?? '');
  });
}

async function runGit(
  folder: string | undefined,
  args: readonly string[],
  options: { input?: string; env?: Record<string, string> } = {},
): Promise<string> {
  const { code, out, err } = await runGitRaw(folder, args, options);
  if (code !== 0) throw new Error(`git ${args[0]} ended with ${code}: ${err.trim()}`);
  return out;
}
