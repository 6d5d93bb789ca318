import { Injectable, type OnModuleDestroy, type OnModuleInit } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { ExampleOutcome, ExampleState } from '@ouvrage/api/example';
import { exampleDigest } from '@ouvrage/core/example';
import type { Example, Project } from '@ouvrage/core/model';
import { didYouMean } from '@ouvrage/core/sql';
import { In, Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { DraftService } from '../project/draft.service.js';
import { type Line, ProjectService } from '../project/project.service.js';
import type { Sent } from '../shared/answers.js';
import { isConnectionLost } from '../shared/connection-lost.js';
import { isFullDisk } from '../shared/disk.js';
import { logger, Problem } from '../shared/problem.js';
import { Turns } from '../shared/turns.js';
import { KeptOutcome } from './example.entities.js';
import { ExampleRunner, whyNot } from './example-runner.js';
import { currentTime } from '../shared/time.js';

/** Drafts that are saved one after the other are looked at once. */
const PAUSE_MS = 300;
/** Examples that one request runs. */
const MOST_AT_ONCE = 200;

/** Requests of one workspace that wait while its examples run. */
const MOST_WAITING = 5;
/** Examples that run at a time: runs of workspaces use the same connections. */
const AT_A_TIME = 2;
const PATIENCE_MS = 600_000;

/** Which examples are meant: all of them, a table's, or one. */
export interface ExamplesAsked {
  readonly table?: string | undefined;
  readonly name?: string | undefined;
}

/** Worked examples with what they came to; those that an edit concerns run by themselves. */
@Injectable()
export class ExampleService implements OnModuleInit, OnModuleDestroy {
  /** What runs for each line: its examples run one after the other. */
  private readonly working = new Map<string, Promise<unknown>>();
  private readonly asking = new Map<string, number>();
  private readonly turns = new Turns(AT_A_TIME, 1, PATIENCE_MS);
  private readonly waiting = new Map<string, NodeJS.Timeout>();

  constructor(
    @InjectRepository(KeptOutcome) private readonly kept: Repository<KeptOutcome>,
    private readonly runner: ExampleRunner,
    private readonly projects: ProjectService,
    private readonly drafts: DraftService,
  ) {}

  onModuleInit(): void {
    this.drafts.afterKeep.push((workspace) => this.soon(workspace.slug));
    this.projects.afterCommit.push((_, slug) => Promise.resolve(this.soon(slug)));
  }

  async onModuleDestroy(): Promise<void> {
    for (const timer of this.waiting.values()) clearTimeout(timer);
    this.waiting.clear();
    await Promise.all(this.working.values());
  }

  /** The examples of a line with what was found of them as they are now. */
  async states(slug: string, asked: ExamplesAsked = {}): Promise<Sent<readonly ExampleState[]>> {
    const line = await this.projects.line(slug);
    const states = await this.statesOf(line.project, chosen(line.project, asked));
    if (!this.isWorking(slug)) return states;
    const changed = new Set((await this.changed(line)).map((e) => `${e.table} ${e.name}`));
    return states.map((s) => (changed.has(`${s.table} ${s.name}`) ? asRunning(s) : s));
  }

  /**
   * What a review shows: examples that may come to something else than in production, over what the release would make.
   * Those that did not run yet do so now.
   */
  async review(slug: string): Promise<Sent<readonly ExampleState[]>> {
    const project = await this.projects.asReleased(await this.projects.line(slug));
    const states = await this.statesOf(project, await this.changed({ project }));
    if (states.some((s) => s.verdict === 'not run') && !this.isWorking(slug)) this.soon(slug);
    return this.isWorking(slug) ? states.map(asRunning) : states;
  }

  /** Whether examples that an edit concerns are running, or about to. */
  private isWorking(slug: string): boolean {
    return this.waiting.has(slug) || this.working.has(slug);
  }

  private async statesOf(project: Project, examples: readonly Example[]): Promise<Sent<readonly ExampleState[]>> {
    const digests = new Map(examples.map((e) => [e, exampleDigest(project, e)]));
    const found = new Map(
      (await this.kept.find({ where: { digest: In([...digests.values()]) } })).map((k) => [k.digest, k]),
    );
    return examples.map((example): Sent<ExampleState> => {
      const { table, name } = example;
      if (whyNot(project, example)) return { table, name, verdict: 'errors', at: null, outcome: null };
      const known = found.get(digests.get(example)!);
      return known
        ? { table, name, verdict: known.outcome.verdict, at: known.at, outcome: known.outcome }
        : { table, name, verdict: 'not run', at: null, outcome: null };
    });
  }

  /**
   * Runs examples now, also where something was found of them before.
   * @throws Problem where there are none of that name
   */
  async run(slug: string, asked: ExamplesAsked): Promise<Sent<readonly ExampleState[]>> {
    const line = await this.projects.line(slug);
    const examples = chosen(line.project, asked);
    if (examples.length === 0) throw noExamples(line.project, asked);
    if (examples.length > MOST_AT_ONCE)
      throw new Problem(
        422,
        'too-many',
        `${examples.length} examples cannot run at once`,
        `Choose a table; ${MOST_AT_ONCE} examples are the most.`,
      );
    const asking = this.asking.get(slug) ?? 0;
    if (asking >= MOST_WAITING)
      throw new Problem(
        429,
        'too-many-examples',
        'Examples of this workspace are already waiting to run',
        'Wait until they have run, then try again.',
        { retryAfter: 5 },
      );
    this.asking.set(slug, asking + 1);
    try {
      await this.inTurn(slug, () => this.runAll(line, examples));
    } finally {
      this.asking.set(slug, this.asking.get(slug)! - 1);
    }
    return this.statesOf(line.project, examples);
  }

  /** Examples that an edit concerns run once saving has paused. */
  private soon(slug: string): void {
    clearTimeout(this.waiting.get(slug));
    const timer = setTimeout(() => {
      this.waiting.delete(slug);
      void this.inTurn(slug, () => this.runChanged(slug)).catch((error: unknown) => logger.warn(error));
    }, PAUSE_MS);
    timer.unref();
    this.waiting.set(slug, timer);
  }

  /** Examples that differ from production's, by their files or by what their definitions read, and are not known yet. */
  private async runChanged(slug: string): Promise<void> {
    const line = await this.projects.line(slug);
    // As they are here, and for the review over what others have released, which is mostly the same.
    for (const project of new Set([line.project, await this.projects.asReleased(line)])) {
      if (project.examples.size === 0) continue;
      const changed = await this.changed({ project });
      const states = await this.statesOf(project, changed);
      await this.runAll(
        { ...line, project },
        changed.filter((_, i) => states[i]!.verdict === 'not run'),
      );
    }
  }

  /** Examples of a line whose outcome may be another than production's. */
  private async changed({ project }: Pick<Line, 'project'>): Promise<readonly Example[]> {
    const { project: released } = await this.projects.line(PRODUCTION);
    const before = new Set([...released.examples.values()].flat().map((e) => exampleDigest(released, e)));
    return [...project.examples.values()].flat().filter((e) => !before.has(exampleDigest(project, e)));
  }

  private async runAll({ project, workspace }: Pick<Line, 'project' | 'workspace'>, examples: readonly Example[]) {
    for (const example of examples) {
      if (whyNot(project, example)) continue;
      const prefix = workspace?.prefix ?? 'w~production';
      const end = await this.turns.turn(prefix);
      if (!end) return;
      const outcome = await this.outcomeOf(project, example, prefix).finally(end);
      const { table, name } = example;
      await this.kept.upsert(
        { digest: exampleDigest(project, example), table, name, outcome: outcome as never, at: currentTime() },
        ['digest'],
      );
    }
  }

  /** A fault of ours is kept as one, too: what is kept nowhere would be tried without end. */
  private async outcomeOf(project: Project, example: Example, prefix: string): Promise<ExampleOutcome> {
    const failed = (message: string): ExampleOutcome => ({
      verdict: 'failed',
      columns: [],
      rows: [],
      error: { message },
      milliseconds: 0,
    });
    try {
      return (await this.runner.run(project, example, prefix)) ?? failed('its definition has no query');
    } catch (error) {
      if (isConnectionLost(error) || isFullDisk(error)) throw error;
      logger.error(error);
      return failed(`it could not be run: ${error instanceof Error ? error.message : String(error)}`);
    }
  }

  private async inTurn<T>(slug: string, work: () => Promise<T>): Promise<T> {
    const before = this.working.get(slug) ?? Promise.resolve();
    const mine = before.then(work, work);
    const ended = mine.catch(() => undefined);
    this.working.set(slug, ended);
    try {
      return await mine;
    } finally {
      if (this.working.get(slug) === ended) this.working.delete(slug);
    }
  }
}

const asRunning = (s: Sent<ExampleState>): Sent<ExampleState> =>
  s.verdict === 'not run' ? { ...s, verdict: 'running' } : s;

const chosen = (project: Project, { table, name }: ExamplesAsked): readonly Example[] =>
  [...(table === undefined ? project.examples.values() : [project.examples.get(table) ?? []])]
    .flat()
    .filter((e) => name === undefined || e.name === name);

function noExamples(project: Project, { table, name }: ExamplesAsked): Problem {
  if (table === undefined)
    return new Problem(404, 'not-found', 'There are no worked examples', 'Begin one under Examples of a definition.');
  const names = (project.examples.get(table) ?? []).map((e) => e.name);
  return new Problem(
    404,
    'not-found',
    name === undefined ? `${table} has no worked example` : `${table} has no worked example ${name}`,
    name === undefined ? 'Begin one under Examples.' : didYouMean(name, names),
  );
}
