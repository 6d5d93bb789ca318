import type { CastsAnswer, PreviewColumn, PreviewSample, Rows } from '@ouvrage/api/rows';
import { isView } from '@ouvrage/core/language';
import { Injectable } from '@nestjs/common';
import {
  type Cast,
  CAST_ANSWER,
  CAST_ROWS,
  castBlock,
  isTypeName,
  readCasts,
  readThroughViews,
  type Queried,
} from '@ouvrage/core/assist';
import { conditionProbes } from '@ouvrage/core/check';
import { projectAround, resolveColumns } from '@ouvrage/core/columns';
import { sensitiveColumns, type SensitiveColumns } from '@ouvrage/core/lineage';
import { standInReason } from '@ouvrage/core/keys';
import { type Project, type Place, type Query, type Table } from '@ouvrage/core/model';
import { idents, lineColumn, qualified, wrapped, type EditedText } from '@ouvrage/core/sql';
import { ProjectService, type Line } from '../project/project.service.js';
import { logger, notFound, Problem } from '../shared/problem.js';
import { lookingRole, seeingNoRows, ReaderService } from '../warehouse/reader.service.js';
import type { StepError } from '@ouvrage/api/run';
import { shownRows } from '../warehouse/shown-rows.js';
import { isOfStatement, stepError, withoutValue } from '../warehouse/sql-error.js';
import { queryIn, QueryPreparer } from './prepare-query.js';
import { ViewerRights } from './viewer-rights.js';
import { errorOfRows, traceRows } from '../load/trace.js';
import type { Standing } from '../warehouse/loaded.js';

/** What is previewed: a file as it is being written, and how many rows of it. */
export interface PreviewAsked {
  readonly path: string;
  readonly text: string;
  readonly limit: number;
  readonly sample?: PreviewSample | undefined;
}

/** A table as a query can read it. */
export interface TableSource {
  readonly from: string;
  readonly place?: Place;
  readonly where: Standing['where'];
  /** The columns of its key, where it has one that its load enforces. */
  readonly key: readonly string[];
  /** Columns that who looks may not see. */
  readonly leftOut?: readonly string[];
}

const COUNT_SECONDS = 5;

/** Runs a person's query as the reader: read-only, limited, timed, cancelled when the person leaves, rolled back. */
@Injectable()
export class PreviewService {
  constructor(
    private readonly projects: ProjectService,
    private readonly preparer: QueryPreparer,
    private readonly reader: ReaderService,
    private readonly rights: ViewerRights,
  ) {}

  /** Rows of a file's query as it is being written. */
  async text(slug: string, { path, text, limit, sample }: PreviewAsked, signal: AbortSignal): Promise<Rows> {
    const { line, query } = await this.preparer.written(slug, path, text);
    return this.query(line, path, query, limit, signal, sample);
  }

  /** Columns and types that a file's query would return, asked of the database without reading a row. */
  async describe(slug: string, path: string, text: string, signal: AbortSignal): Promise<readonly PreviewColumn[]> {
    const { line, query } = await this.preparer.written(slug, path, text);
    const standings = await this.preparer.standings(line);
    const { full } = await seeingNoRows(() => this.preparer.compiled(line, { path, query }, standings));
    const described = wrapped('select * from (\n', full, '\n) as described limit 0');
    const { columns } = await this.run(described.text, 1, signal).catch((error: unknown) => {
      throw told(error, line.project, path, described);
    });
    return columns;
  }

  /**
   * What the database does not take of a file as it is being written: its query and the conditions of
   * its contracts, each only prepared. An input that is not there yet is no mistake of the file.
   */
  async validate(slug: string, path: string, text: string, signal: AbortSignal): Promise<readonly StepError[]> {
    const line = await this.projects.line(slug);
    const { project } = await this.projects.withText(line.project, path, text);
    const wrong = project.diagnostics.find((d) => d.path === path && (d.code === 'syntax' || d.code === 'unreadable'));
    if (wrong)
      return [
        {
          message: wrong.message,
          path,
          ...lineColumn(text, wrong.range.start),
          ...(wrong.hint ? { hint: wrong.hint } : {}),
        },
      ];
    if (project.diagnostics.some((d) => d.path === path && d.severity === 'error')) return [];
    const problems: StepError[] = [];
    for (const probe of conditionProbes(project, path)) {
      await this.run(probe.sql, 1, signal).catch((error: unknown) => {
        if (!isOfStatement(error)) throw error;
        const { message, hint, sqlstate } = stepError(error, project);
        problems.push({
          message: `${probe.what}: ${message}`,
          path,
          ...lineColumn(text, probe.range.start),
          ...(hint ? { hint } : {}),
          ...(sqlstate ? { sqlstate } : {}),
        });
      });
    }
    if (!queryIn(project.files.get(path)!)) return problems;
    await this.describe(slug, path, text, signal).catch((error: unknown) => {
      if (!(error instanceof Problem)) throw error;
      if (error.code === 'query-failed') problems.push(error.extra['error'] as StepError);
    });
    return problems;
  }

  /** Which values of a query's columns fail in a cast: all of them are counted, where a query tells the first. */
  async casts(
    slug: string,
    { path, text, casts }: { readonly path: string; readonly text: string; readonly casts: readonly Cast[] },
    signal: AbortSignal,
  ): Promise<CastsAnswer> {
    const { line, query } = await this.preparer.written(slug, path, text);
    const { full } = await this.preparer.compiled(line, { path, query }, await this.preparer.standings(line));
    const other = casts.find((c) => !isTypeName(c.type));
    if (other)
      throw new Problem(422, 'no-type', `${other.type} is not the name of a type`, 'Write one such as numeric(10,2).');
    const started = performance.now();
    try {
      return await this.reader.read(signal, async (client) => {
        await client.query(castBlock(full.text, casts));
        const { rows } = await client.query<{ answer: string }>('select current_setting($1) as answer', [CAST_ANSWER]);
        return {
          casts: readCasts(casts, rows[0]!.answer),
          rowsLookedAt: CAST_ROWS,
          milliseconds: Math.round(performance.now() - started),
        };
      });
    } catch (error) {
      throw told(error, line.project, path, full);
    }
  }

  private async query(
    line: Line,
    path: string,
    query: Query,
    limit: number,
    signal: AbortSignal,
    sample?: PreviewSample,
  ): Promise<Rows> {
    const standings = await this.preparer.standings(line);
    const standIns = sample && (await this.preparer.standIn(line, standings, sample, signal));
    const { full, inlined } = await this.preparer.compiled(line, { path, query }, standings, standIns);
    const preview = await this.run(full.text, limit, signal).catch(async (error: unknown) => {
      throw told(error, line.project, path, full, await this.traced(line, { path, query }, standings, error, signal));
    });
    return {
      ...preview,
      columns: markedColumns(line.project, query, standings, preview.columns),
      inlined,
      ...(sample ? { sampled: sample.table } : {}),
    };
  }

  /** What rows brought an error about, and where in the author's text. */
  private async traced(
    line: Line,
    of: Queried,
    standings: Map<string, Standing>,
    error: unknown,
    signal: AbortSignal,
  ): Promise<Partial<StepError>> {
    const cause = errorOfRows(error);
    if (!cause) return {};
    const { project } = line;
    const names = { ...this.preparer.namesOf(line, standings), settings: this.preparer.settingsOf(project, of.path) };
    try {
      await this.preparer.makeFunctions(line, names, readThroughViews(project, of));
      return await this.reader.read(signal, (client) => traceRows(client, { project, of, names }, cause, 'preview'));
    } catch (failure) {
      logger.warn(failure);
      return {};
    }
  }

  /** What is in FROM for a file's query as it is being written. */
  async sourceOfText(
    slug: string,
    { path, text, sample }: Omit<PreviewAsked, 'limit'>,
    signal: AbortSignal,
  ): Promise<TableSource> {
    const { line, query } = await this.preparer.written(slug, path, text);
    const standings = await this.preparer.standings(line);
    const standIns = sample && (await this.preparer.standIn(line, standings, sample, signal));
    const { full } = await this.preparer.compiled(line, { path, query }, standings, standIns);
    return { from: `(${full.text}\n)`, where: 'nowhere', key: [] };
  }

  /** What is in FROM for a table: its place, or its query where it is not built. */
  async sourceOf(slug: string, table: string, of: 'here' | 'production' = 'here'): Promise<TableSource> {
    return this.sourceIn(await this.projects.line(of === 'production' ? 'production' : slug), table);
  }

  /** The same, of a project as it was read. */
  async sourceIn(line: Line, table: string): Promise<TableSource> {
    const definition = line.project.tables.get(table);
    if (!definition) throw notFound(`The table ${table}`);
    const standings = await this.preparer.standings(line);
    const standing = standings.get(table);
    if (standing?.place) {
      await this.rights.grant(line, [table], standings);
      const hidden = await this.rights.hidden(line, table);
      if (hidden.size) return withoutHidden(line.project, definition, { ...standing, place: standing.place }, hidden);
      return { from: qualified(standing.place), place: standing.place, where: standing.where, key: keyOf(definition) };
    }
    if (definition.kind !== 'definition' || !definition.query) throw this.preparer.notThere(table);
    return {
      from: `(${(await this.preparer.compiled(line, { path: definition.path, query: definition.query }, standings)).full.text}\n)`,
      where: 'nowhere',
      key: [],
    };
  }

  /** @throws DatabaseError as PostgreSQL sends it, or Problem when stopped */
  private run(sql: string, limit: number, signal: AbortSignal): Promise<Rows> {
    const statement = { sql, values: [] };
    return this.reader.read(signal, async (client) => {
      const started = performance.now();
      const { rows, columns, isFull } = await shownRows(client, statement, limit + 1);
      const milliseconds = performance.now() - started;
      const counting = { sql: `select count(*) as n from (\n${sql}\n) as counted`, values: [] };
      const total =
        rows.length <= limit && !isFull ? rows.length : await this.reader.count(client, counting, COUNT_SECONDS);
      return {
        columns: columns.map(({ name, type }) => ({ name, type })),
        rows: rows.slice(0, limit),
        isFull,
        total,
        milliseconds: Math.round(milliseconds),
        sql,
        inlined: [],
      };
    });
  }
}

/** Columns with the reason why they hold stand-ins. They are in the query's order. */
function markedColumns(
  project: Project,
  query: Query,
  standings: Map<string, Standing>,
  columns: readonly PreviewColumn[],
): readonly PreviewColumn[] {
  const around = projectAround((table) => project.columns.get(table), project.functions);
  const resolved = resolveColumns(query.select, around).columns;
  if (resolved?.length !== columns.length) return columns;
  return columns.map((c, i) => {
    const standIn = standInReason(project, resolved[i]!.origins, (table) => standings.get(table)?.place !== undefined);
    return standIn === undefined ? c : { ...c, standIn };
  });
}

/** A table without the columns that who looks may not see, nor any of their values. */
function withoutHidden(
  project: Project,
  table: Table,
  { place, where }: { readonly place: Place; readonly where: Standing['where'] },
  hidden: SensitiveColumns,
): TableSource {
  const columns = (project.columns.get(table.fullName) ?? []).filter((c) => !hidden.has(c.name)).map((c) => c.name);
  if (columns.length === 0)
    throw new Problem(403, 'sensitive', `All columns of ${table.fullName} are sensitive: viewers do not see them`);
  const key = keyOf(table);
  return {
    from: `(select ${idents(columns)} from ${qualified(place)})`,
    where,
    key: key.some((k) => hidden.has(k)) ? [] : key,
    leftOut: [...hidden.keys()],
  };
}

/** A key that is enforced: an advisory or tolerated one may not tell rows apart. */
function keyOf(table: Table): readonly string[] {
  const key = table.contract?.constraints.find((c) => c.kind === 'primary key');
  const loose = ['advisory', 'tolerate'].some((o) => table.contract?.options.get(o)?.value.includes(key?.name ?? ' '));
  return key && !loose && (table.kind !== 'definition' || !isView(table)) ? key.columns : [];
}

function told(
  error: unknown,
  project: Project,
  path: string,
  full: EditedText,
  traced: Partial<StepError> = {},
): unknown {
  if (!isOfStatement(error)) return error;
  const found = { ...stepError(error, project, { path, original: full.original }), ...traced };
  // A view may stumble over a value that who looks may not see.
  const isGuarded = lookingRole() === 'viewer' && sensitiveColumns(project).size > 0;
  const place = isGuarded ? { ...found, message: withoutValue(found.message) } : found;
  return new Problem(422, 'query-failed', place.message, place.hint, { error: place, sql: full.text });
}
