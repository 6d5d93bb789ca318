import type { PreviewSample } from '@ouvrage/api/rows';
import { Injectable } from '@nestjs/common';
import { compileText, type Names } from '@ouvrage/core/compile';
import { afterInputs, functionsOf } from '@ouvrage/core/graph';
import { inlinedTables, previewQuery } from '@ouvrage/core/keys';
import { targetPlace } from '@ouvrage/core/load';
import { sampleQuery } from '@ouvrage/core/look';
import {
  settingsOf,
  withEach,
  type Definition,
  type IndexedFile,
  type Place,
  type Project,
  type Query,
} from '@ouvrage/core/model';
import { schemaNames } from '@ouvrage/core/resolve';
import { qualified, type EditedText } from '@ouvrage/core/sql';
import { ProjectService, type Line } from '../project/project.service.js';
import { Problem } from '../shared/problem.js';
import type { Standing } from '../warehouse/loaded.js';
import { ReaderService } from '../warehouse/reader.service.js';
import { ViewerRights } from './viewer-rights.js';
import { stepError } from '../warehouse/sql-error.js';
import { previewFunctions, WarehouseService } from '../warehouse/warehouse.service.js';

/** A query of a file, with what it is compiled by. */
export interface Prepared {
  readonly names: Names;
  /** The tables that it names. */
  readonly reads: readonly string[];
  /** Those of them that are put in as their queries. */
  readonly inlined: string[];
  /** Makes a statement of the query's names one that can be run. */
  readonly finish: (compiled: EditedText) => EditedText;
}

/** Makes the query of a file that is being written one that the reader can run. */
@Injectable()
export class QueryPreparer {
  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
    private readonly reader: ReaderService,
    private readonly rights: ViewerRights,
  ) {}

  /** The project with one file as it is being written, and that file's query. */
  async written(slug: string, path: string, text: string): Promise<{ line: Line; query: Query }> {
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

  standings(line: Line): Promise<Map<string, Standing>> {
    return this.warehouse.standings(line.project, line.environment, this.projects.environmentOf(undefined));
  }

  /** Parameters, and for a definition that makes a table a row of a list, the first row. */
  settingsOf(project: Project, path: string): Map<string, string> {
    const table = [...project.tables.values()].find((t) => t.kind === 'definition' && t.path === path);
    return withEach(settingsOf(project), table?.kind === 'definition' ? table : {});
  }

  /**
   * A query as it can be run now: drafted and unbuilt tables are put in as their queries, functions that it needs made.
   * @throws Problem where an input has no rows yet, or where inputs read each other in a cycle
   */
  async prepared(
    line: Line,
    { path, query }: { readonly path: string; readonly query: Query },
    standings: Map<string, Standing>,
    standIns?: ReadonlyMap<string, string>,
  ): Promise<Prepared> {
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
    await this.rights.refuse(line, query);
    await this.rights.grant(
      line,
      [...reads, ...inlined.flatMap((t) => project.reads.get(t.fullName) ?? [])],
      standings,
    );
    await this.makeFunctions(
      line,
      names,
      inlined.map((t) => t.fullName),
      query,
    );
    return {
      names,
      reads,
      inlined: reads.filter((r) => project.tables.has(r) && !standings.get(r)?.place),
      finish: (compiled) => previewQuery(project, compiled, reads, names),
    };
  }

  /** All of a prepared query as one statement, of which who looks sees the rows. */
  async compiled(
    line: Line,
    of: { readonly path: string; readonly query: Query },
    standings: Map<string, Standing>,
    standIns?: ReadonlyMap<string, string>,
  ): Promise<{ full: EditedText; inlined: string[] }> {
    const { names, inlined, finish } = await this.prepared(line, of, standings, standIns);
    await this.rights.note(line, of.query);
    return { full: finish(compileText(line.project.files.get(of.path)!, of.query, of.query, names)), inlined };
  }

  namesOf(
    { workspace, environment }: Line,
    standings: Map<string, Standing>,
  ): Pick<Names, 'placeOf' | 'functionsSchema'> {
    return {
      placeOf: (table) => standings.get(table)?.place,
      functionsSchema: workspace ? previewFunctions(environment) : environment.schemaOf('functions'),
    };
  }

  /** Makes the functions that tables and a query need, as the drafts have them; those of production are there. */
  async makeFunctions(
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
  async standIn(
    line: Line,
    standings: Map<string, Standing>,
    { table, share = 0.1, by = [], each = 20 }: PreviewSample,
    signal: AbortSignal,
  ): Promise<Map<string, string>> {
    const place = standings.get(table)?.place;
    const hidden = await this.rights.hidden(line, table);
    const columns = line.project.columns.get(table)?.flatMap((c) => (hidden.has(c.name) ? [] : [c.name]));
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

  /** Source and reference tables cannot be put in as queries: they have to be there. */
  private missing(project: Project, reads: readonly string[], standings: Map<string, Standing>): Problem | undefined {
    const needed = afterInputs(reads, (name) =>
      project.tables.has(name) && !standings.get(name)?.place ? (project.reads.get(name) ?? []) : undefined,
    );
    const missing = needed.find((name) => project.tables.get(name)!.kind !== 'definition');
    return missing === undefined ? undefined : this.notThere(missing);
  }

  notThere(table: string): Problem {
    return new Problem(
      409,
      'not-built',
      `${table} has no rows in the warehouse yet`,
      'Load it under Sources, or run it.',
      { table },
    );
  }
}

/** @throws Problem where queries that would be put in read each other in a cycle */
function refuseCycle(project: Project, inlined: readonly Definition[]): void {
  const paths = new Set(inlined.map((t) => t.path));
  const cycle = project.diagnostics.find((d) => d.code === 'cycle' && paths.has(d.path));
  if (cycle) throw new Problem(422, 'table-errors', cycle.message, cycle.hint);
}

/** The query that a file is about. */
export function queryIn(file: IndexedFile): Query | undefined {
  const definition = file.tables.find((t): t is Definition => t.kind === 'definition');
  return definition?.query ?? file.checks[0]?.query ?? file.adhoc[0]?.query;
}
