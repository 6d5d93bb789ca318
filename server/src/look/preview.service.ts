import type { PreviewColumn, PreviewSample, Rows } from '@ouvrage/api/rows';
import { isView } from '@ouvrage/core/language';
import { Injectable } from '@nestjs/common';
import { readThroughViews, type Queried } from '@ouvrage/core/assist';
import { conditionProbes } from '@ouvrage/core/check';
import { projectAround, resolveColumns } from '@ouvrage/core/columns';
import { compileText, type Names } from '@ouvrage/core/compile';
import { afterInputs, functionsOf } from '@ouvrage/core/graph';
import { inlinedTables, previewQuery, standInReason } from '@ouvrage/core/keys';
import { targetPlace } from '@ouvrage/core/load';
import { sampleQuery } from '@ouvrage/core/look';
import {
  settingsOf,
  withEach,
  type Definition,
  type IndexedFile,
  type Project,
  type Place,
  type Query,
  type Table,
} from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import { lineColumn, qualified, wrapped, type EditedText } from '@ouvrage/core/sql';
import { ProjectService, type Line } from '../project/project.service.js';
import { logger, notFound, Problem } from '../shared/problem.js';
import { ReaderService } from '../warehouse/reader.service.js';
import type { StepError } from '@ouvrage/api/run';
import { shownRows } from '../warehouse/shown-rows.js';
import { isOfStatement, stepError } from '../warehouse/sql-error.js';
import { errorOfRows, traceRows } from '../load/trace.js';
import type { Standing } from '../warehouse/loaded.js';
import { previewFunctions, WarehouseService } from '../warehouse/warehouse.service.js';

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
}

const COUNT_SECONDS = 5;

/** Runs a person's query as the reader: read-only, limited, timed, cancelled when the person leaves, rolled back. */
@Injectable()
export class PreviewService {
  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly reader: ReaderService,
  ) {}

  /** Rows of a file's query as it is being written. */
  async text(slug: string, { path, text, limit, sample }: PreviewAsked, signal: AbortSignal): Promise<Rows> {
    const { line, query } = await this.written(slug, path, text);
    return this.query(line, path, query, limit, signal, sample);
  }

  /** The project with one file as it is being written, and that file's query. */
  private async written(slug: string, path: string, text: string): Promise<{ line: Line; query: Query }> {
    const line = await this.projects.line(slug);
    const { file: indexed } = await this.projects.withText(line.project, path, text);
    const syntax = indexed.diagnostics.find((d) => d.code === 'syntax' || d.code === 'unreadable');
    if (syntax)
      throw new Problem(422, 'syntax', syntax.message, undefined, {
        error: stepError(new Error(syntax.message), line.project),
        path,
      });
    const query = queryIn(indexed);
    if (!query) throw new Problem(422, 'no-query', `${path} has no query to preview`, 'Write a select.');
    return {
      line: { ...line, project: { ...line.project, files: new Map([...line.project.files, [path, indexed]]) } },
      query,
    };
  }

  /** Columns and types that a file's query would return, asked of the database without reading a row. */
  async describe(slug: string, path: string, text: string, signal: AbortSignal): Promise<readonly PreviewColumn[]> {
    const { line, query } = await this.written(slug, path, text);
    const { full } = await this.compiled(line, path, query, await this.standings(line));
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

  private async standings(line: Line): Promise<Map<string, Standing>> {
    return this.warehouse.standings(line.project, line.environment, this.projects.environmentOf(undefined));
  }

  private async query(
    line: Line,
    path: string,
    query: Query,
    limit: number,
    signal: AbortSignal,
    sample?: PreviewSample,
  ): Promise<Rows> {
    const standings = await this.standings(line);
    const standIns = sample && (await this.standIn(line, standings, sample, signal));
    const { full, inlined } = await this.compiled(line, path, query, standings, standIns);
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
    const names = { ...this.namesOf(line, standings), settings: this.settingsOf(project, of.path) };
    try {
      await this.makeFunctions(line, names, readThroughViews(project, of));
      return await this.reader.read(signal, (client) => traceRows(client, { project, of, names }, cause, 'preview'));
    } catch (failure) {
      logger.warn(failure);
      return {};
    }
  }

  /** Parameters, and for a definition that makes a table a row of a list, the first row. */
  private settingsOf(project: Project, path: string): Map<string, string> {
    const table = [...project.tables.values()].find((t) => t.kind === 'definition' && t.path === path);
    return withEach(settingsOf(project), table?.kind === 'definition' ? table : {});
  }

  /** A query as it can be run now: drafted and unbuilt tables are put in as their queries. */
  private async compiled(
    line: Line,
    path: string,
    query: Query,
    standings: Map<string, Standing>,
    standIns?: ReadonlyMap<string, string>,
  ): Promise<{ full: EditedText; inlined: string[] }> {
    const { project } = line;
    const names: Names = {
      ...this.namesOf(line, standings),
      settings: this.settingsOf(project, path),
      ...(standIns ? { standIns } : {}),
    };
    const reads = [...new Set(query.tables.map((t) => `${t.layer ?? ''}.${t.name}`))];
    const missing = this.missing(project, reads, standings);
    if (missing) throw missing;
    const inlined = inlinedTables(project, reads, names.placeOf);
    refuseCycle(project, inlined);
    const without = inlined.map((t) => t.fullName);
    await this.makeFunctions(line, names, without, query);
    const main = compileText(project.files.get(path)!, query, query, names);
    return {
      full: previewQuery(project, main, reads, names),
      inlined: reads.filter((r) => project.tables.has(r) && !standings.get(r)?.place),
    };
  }

  private namesOf(
    { workspace, environment }: Line,
    standings: Map<string, Standing>,
  ): Pick<Names, 'placeOf' | 'functionsSchema'> {
    return {
      placeOf: (table) => standings.get(table)?.place,
      functionsSchema: workspace ? previewFunctions(environment) : environment.schemaOf('functions'),
    };
  }

  /** Makes the functions that tables and a query need, as the drafts have them; those of production are there. */
  private async makeFunctions(
    { workspace, environment, project }: Line,
    names: Names,
    tables: Iterable<string>,
    query?: Query,
  ): Promise<void> {
    const functions = functionsOf(project, tables, query ? [query] : []);
    if (!workspace || functions.length === 0) return;
    await this.warehouse.prepare(environment, schemaNames(project.layers, project.tables.values()));
    const placeOf = (table: string): Place =>
      names.placeOf(table) ?? targetPlace(environment, project.tables.get(table)!);
    await this.warehouse.makeFunctions(environment, project, functions, { ...names, placeOf });
  }

  /** The query that stands for a sampled input. */
  private async standIn(
    line: Line,
    standings: Map<string, Standing>,
    { table, share = 0.1, by = [], each = 20 }: PreviewSample,
    signal: AbortSignal,
  ): Promise<Map<string, string>> {
    const place = standings.get(table)?.place;
    const columns = line.project.columns.get(table)?.map((c) => c.name);
    if (!place || !columns)
      throw new Problem(
        409,
        'not-sampled',
        `${table} cannot be sampled`,
        'Only tables that exist in the warehouse and whose columns are known can be sampled.',
      );
    const unknown = by.filter((c) => !columns.includes(c));
    if (unknown.length)
      throw new Problem(
        422,
        'unknown-column',
        `${table} has no column ${unknown.join(', ')}`,
        `Its columns are ${columns.join(', ')}.`,
      );
    const isTable = await this.reader.read(
      signal,
      async (client) =>
        (await client.query(`select from pg_class where oid = to_regclass($1) and relkind = 'r'`, [qualified(place)]))
          .rowCount === 1,
    );
    return new Map([
      [
        table,
        sampleQuery(
          qualified(place),
          columns,
          by.length ? { kind: 'stratified', by, each } : { kind: 'plain', share },
          { isTable },
        ),
      ],
    ]);
  }

  /** What is in FROM for a table: its place, or its query where it is not built. */
  async sourceOf(slug: string, table: string, of: 'here' | 'production' = 'here'): Promise<TableSource> {
    const line = await this.projects.line(of === 'production' ? 'production' : slug);
    const definition = line.project.tables.get(table);
    if (!definition) throw notFound(`The table ${table}`);
    const standings = await this.standings(line);
    const standing = standings.get(table);
    if (standing?.place)
      return { from: qualified(standing.place), place: standing.place, where: standing.where, key: keyOf(definition) };
    if (definition.kind !== 'definition' || !definition.query) throw this.notThere(table);
    return {
      from: `(${(await this.compiled(line, definition.path, definition.query, standings)).full.text}\n)`,
      where: 'nowhere',
      key: [],
    };
  }

  /** Source and reference tables cannot be put in as queries: they have to be there. */
  private missing(project: Project, reads: readonly string[], standings: Map<string, Standing>): Problem | undefined {
    const needed = afterInputs(reads, (name) =>
      project.tables.has(name) && !standings.get(name)?.place ? (project.reads.get(name) ?? []) : undefined,
    );
    const missing = needed.find((name) => project.tables.get(name)!.kind !== 'definition');
    return missing === undefined ? undefined : this.notThere(missing);
  }

  private notThere(table: string): Problem {
    return new Problem(
      409,
      'not-built',
      `${table} has no rows in the warehouse yet`,
      'Load it under Sources, or run it.',
      { table },
    );
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

/** @throws Problem where queries that would be put in read each other in a cycle */
function refuseCycle(project: Project, inlined: readonly Definition[]): void {
  const paths = new Set(inlined.map((t) => t.path));
  const cycle = project.diagnostics.find((d) => d.code === 'cycle' && paths.has(d.path));
  if (cycle) throw new Problem(422, 'table-errors', cycle.message, cycle.hint);
}

function queryIn(file: IndexedFile): Query | undefined {
  const definition = file.tables.find((t): t is Definition => t.kind === 'definition');
  return definition?.query ?? file.checks[0]?.query ?? file.adhoc[0]?.query;
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
  const place = { ...stepError(error, project, { path, original: full.original }), ...traced };
  return new Problem(422, 'query-failed', place.message, place.hint, { error: place, sql: full.text });
}
