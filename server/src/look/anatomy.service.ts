import type { AnatomyLine, AnatomySide, AnatomyStep } from '@ouvrage/api/anatomy';
import type { PreviewSample, Rows } from '@ouvrage/api/rows';
import { Injectable } from '@nestjs/common';
import {
  anatomyOf,
  resultChecks,
  type Anatomy,
  type FigureName,
  type Question,
  type Step,
  type StepLook,
} from '@ouvrage/core/anatomy';
import { projectAround } from '@ouvrage/core/columns';
import { inlinedTables } from '@ouvrage/core/keys';
import type pg from 'pg';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService, type Line } from '../project/project.service.js';
import { asInstant } from '../shared/answers.js';
import { notFound, Problem } from '../shared/problem.js';
import type { Standing } from '../warehouse/loaded.js';
import { ReaderService } from '../warehouse/reader.service.js';
import { shownRows } from '../warehouse/shown-rows.js';
import { isOfStatement, stepError } from '../warehouse/sql-error.js';
import { WarehouseService } from '../warehouse/warehouse.service.js';
import { KeptAnswers } from './kept-answers.js';
import { plannedSeconds } from './planned.js';
import { QueryPreparer, type Prepared } from './prepare-query.js';
import { rowsVersion } from './rows-version.js';
import { ViewerRights } from './viewer-rights.js';
import { readYielding } from './yields-to-swaps.js';

/** What is taken apart: a file as it is being written. */
export interface AnatomyAsked {
  readonly path: string;
  readonly text: string;
  readonly sample?: PreviewSample | undefined;
  /** Counted even where it takes long. */
  readonly isForced: boolean;
}

export interface StepRowsAsked extends Omit<AnatomyAsked, 'isForced'> {
  readonly step: string;
  readonly look: StepLook['name'];
  readonly limit: number;
}

/** Seconds by the planner that a counting may take without being asked for. */
const BUDGET_SECONDS = Number(process.env['OUVRAGE_COUNT_SECONDS'] ?? 10);
/** All counts of an opening take no longer together: the snapshot ends, and counting goes on where it was on demand. */
const LONGEST_SECONDS = 60;
/** What a sample of the first source cannot tell. */
const OF_ALL_ROWS: ReadonlySet<FigureName> = new Set([
  'rightAlone',
  'rightNull',
  'rightSeveral',
  'rightMost',
  'rightKeys',
  'groups',
  'largest',
]);

/** Counts that are kept. */
const MOST_COUNTS = 5000;

/** One query taken apart, ready to be counted. */
interface Strip {
  readonly side: AnatomySide;
  readonly line: Line;
  readonly path: string;
  readonly anatomy: Anatomy;
  readonly prepared: Prepared;
  /** Tells the rows of all that it reads from later ones; undefined where these are not known. */
  readonly version: string | undefined;
  readonly sampled: string | undefined;
}

/** Takes queries apart and counts their steps as the reader, in one snapshot; what was counted is kept. */
@Injectable()
export class AnatomyService {
  private readonly counted = new KeptAnswers<readonly number[]>(MOST_COUNTS);

  constructor(
    private readonly projects: ProjectService,
    private readonly preparer: QueryPreparer,
    private readonly warehouse: WarehouseService,
    private readonly reader: ReaderService,
    private readonly rights: ViewerRights,
  ) {}

  /**
   * Counts the steps of a query, and of production's where that is another one.
   * @param send told of each line as it comes
   */
  async count(
    slug: string,
    asked: AnatomyAsked,
    send: (line: AnatomyLine) => void,
    signal: AbortSignal,
  ): Promise<void> {
    const started = performance.now();
    const strips = [await this.strip(slug, 'here', asked, signal)];
    const beside = await this.production(slug, asked, signal);
    if (beside) strips.push(beside);
    await readYielding(
      { reader: this.reader, warehouse: this.warehouse },
      { signal, onAgain: () => send({ kind: 'again' }) },
      (client) => this.countAll(client, strips, asked, send),
    );
    send({ kind: 'end', milliseconds: Math.round(performance.now() - started) });
  }

  /** Rows that a step has, or that it is at fault with. */
  async rows(slug: string, { step, look, limit, ...asked }: StepRowsAsked, signal: AbortSignal): Promise<Rows> {
    const { anatomy, line, path, prepared } = await this.strip(slug, 'here', asked, signal);
    await this.rights.noteAll(line, prepared.reads);
    const found = anatomy.steps.find((s) => s.id === step)?.looks.find((l) => l.name === look);
    if (!found) throw notFound(`The step ${step} of this query`);
    const statement = found.sql();
    try {
      return await this.reader.read(signal, async (client) => {
        const started = performance.now();
        const shown = await shownRows(client, { sql: statement.text, values: [] }, limit + 1);
        const rows = shown.rows.slice(0, limit).map((row) => row.slice(found.hidden));
        return {
          columns: shown.columns.slice(found.hidden).map(({ name, type }) => ({ name, type })),
          rows,
          isFull: shown.isFull,
          total: shown.rows.length <= limit && !shown.isFull ? rows.length : null,
          milliseconds: Math.round(performance.now() - started),
          sql: statement.text,
          inlined: [],
        };
      });
    } catch (error) {
      if (!isOfStatement(error)) throw error;
      const place = stepError(error, line.project, { path, original: statement.original });
      throw new Problem(422, 'query-failed', place.message, place.hint, { error: place, sql: statement.text });
    }
  }

  private async strip(
    slug: string,
    side: AnatomySide,
    { path, text, sample }: Pick<AnatomyAsked, 'path' | 'text' | 'sample'>,
    signal: AbortSignal,
  ): Promise<Strip> {
    const { line, query } = await this.preparer.written(slug, path, text);
    const standings = await this.preparer.standings(line);
    const standIns = sample && (await this.preparer.standIn(line, standings, sample, signal));
    const prepared = await this.preparer.prepared(line, { path, query }, standings, standIns);
    const { project } = line;
    const around = projectAround((table) => project.columns.get(table), project.functions);
    return {
      side,
      line,
      path,
      anatomy: anatomyOf({ file: project.files.get(path)!, query, around }, prepared.names, prepared.finish),
      prepared,
      version: sample ? undefined : versionOf(line, prepared, standings),
      sampled: sample?.table,
    };
  }

  /** Production's query of the same file, where it is another one and can be read. */
  private async production(
    slug: string,
    { path, text, sample }: AnatomyAsked,
    signal: AbortSignal,
  ): Promise<Strip | undefined> {
    if (slug === PRODUCTION || sample) return undefined;
    const { project } = await this.projects.line(PRODUCTION);
    const released = project.files.get(path)?.text;
    if (released === undefined || released === text) return undefined;
    try {
      return await this.strip(PRODUCTION, 'production', { path, text: released }, signal);
    } catch (error) {
      // What production has may have no rows yet, or no query: there is nothing to put beside.
      if (error instanceof Problem && error.getStatus() < 500) return undefined;
      throw error;
    }
  }

  private async countAll(
    client: pg.ClientBase,
    strips: readonly Strip[],
    asked: AnatomyAsked,
    send: (line: AnatomyLine) => void,
  ): Promise<void> {
    await client.query('set transaction isolation level repeatable read');
    const { rows } = await client.query<{ now: string }>(
      `select to_char(now() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"') as now`,
    );
    const asOf = asInstant(rows[0]!.now);
    const until = performance.now() + LONGEST_SECONDS * 1000;
    for (const strip of strips) {
      const open = strip.anatomy.questions.filter((q) => !this.known(strip, q));
      const seconds = open.length ? await plannedSeconds(client, textsOf(open)) : 0;
      const isHeld = seconds > BUDGET_SECONDS && !asked.isForced;
      send({
        kind: 'steps',
        side: strip.side,
        steps: strip.anatomy.steps.map(stepOut),
        asOf,
        seconds,
        isHeld,
        ...(strip.sampled === undefined ? {} : { sampled: strip.sampled }),
      });
      for (const question of strip.anatomy.questions) {
        const known = this.known(strip, question);
        if (known) send(figures(strip, question, known));
        else if (!isHeld) {
          if (performance.now() > until) throw longest();
          await this.ask(client, strip, question, send);
        }
      }
      if (!isHeld && strip.side === 'here' && !strip.sampled) await this.checks(client, strip, send);
    }
  }

  private known({ version }: Strip, question: Question): readonly number[] | undefined {
    return version === undefined ? undefined : this.counted.get(version, question.sql().text);
  }

  private async ask(
    client: pg.ClientBase,
    strip: Strip,
    question: Question,
    send: (line: AnatomyLine) => void,
  ): Promise<void> {
    const { text, original } = question.sql();
    await client.query('savepoint before_question');
    try {
      const { rows } = await client.query<string[]>({
        text,
        rowMode: 'array',
        queryMode: 'extended',
      } as pg.QueryArrayConfig);
      const values = rows[0]!.map(Number);
      if (strip.version !== undefined) this.counted.set(strip.version, text, values);
      send(figures(strip, question, values));
    } catch (error) {
      if (!isOfStatement(error) || isStop(error)) throw error;
      await client.query('rollback to savepoint before_question');
      if (question.isOptional) return;
      send({
        kind: 'failed',
        side: strip.side,
        steps: [...new Set(question.gives.flat().map((g) => g.step))],
        error: stepError(error, strip.line.project, { path: strip.path, original }),
      });
    }
  }

  /** What the contract's checks say of the query's result. */
  private async checks(client: pg.ClientBase, strip: Strip, send: (line: AnatomyLine) => void): Promise<void> {
    const asked = resultChecks(strip.line.project, strip.path, strip.prepared.names);
    if (!asked) return;
    await client.query('savepoint before_question');
    const counts = await client
      .query<(string | null)[]>({ text: asked.sql, rowMode: 'array', queryMode: 'extended' } as pg.QueryArrayConfig)
      .then(
        ({ rows }) => rows[0]!.slice(1).map(Number),
        async (error: unknown) => {
          if (!isOfStatement(error)) throw error;
          await client.query('rollback to savepoint before_question');
          return undefined;
        },
      );
    send({
      kind: 'checks',
      side: strip.side,
      checks: asked.checks.map((c, i) => ({ ...c, atFault: counts?.[i] ?? null })),
    });
  }
}

/** The texts of questions, one at a time: together they may be long. */
function* textsOf(questions: readonly Question[]): Generator<string> {
  for (const q of questions) yield q.sql().text;
}

const longest = () =>
  new Problem(
    504,
    'too-slow',
    `Counting ended after ${LONGEST_SECONDS} s`,
    'What was counted is kept: count again to go on from there.',
  );

/** Cancelled by hand: the time limit says so itself. */
const isStop = (error: { readonly code?: string; readonly message: string }): boolean =>
  error.code === '57014' && !error.message.includes('statement timeout');

const figures = (strip: Strip, { gives }: Question, values: readonly number[]): AnatomyLine => ({
  kind: 'figures',
  side: strip.side,
  figures: gives.flatMap((list, i) =>
    list
      .filter(({ figure }) => strip.sampled === undefined || !OF_ALL_ROWS.has(figure))
      .map(({ step, figure }) => ({ step, figure, value: values[i]! })),
  ),
});

export function stepOut({ count: _, looks, columns: __, ...step }: Step): AnatomyStep {
  return { ...step, looks: looks.map((l) => l.name) };
}

/** The loads of all tables that a query reads, also through those that are put in as queries. */
function versionOf(
  { project }: Line,
  { reads, names }: Prepared,
  standings: ReadonlyMap<string, Standing>,
): string | undefined {
  const inlined = inlinedTables(project, reads, names.placeOf);
  return rowsVersion(project, [...reads, ...inlined.map((t) => t.fullName)], standings);
}
