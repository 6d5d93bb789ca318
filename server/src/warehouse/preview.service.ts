import { Injectable } from '@nestjs/common';
import {
  compileText,
  indexFile,
  literal,
  previewQuery,
  qualified,
  SESSION_SETTINGS,
  settingsOf,
  shortType,
  type Definition,
  type Names,
  type Project,
  type Query,
} from '@ouvrage/core';
import pg from 'pg';
import Cursor from 'pg-cursor';
import { ProjectService, type Line } from '../project/project.service.js';
import { notFound, Problem } from '../shared/problem.js';
import { isDatabaseError, stepError } from './sql-error.js';
import { WarehouseService, type Standing } from './warehouse.service.js';

export interface PreviewColumn {
  readonly name: string;
  readonly type: string;
}

export interface Preview {
  readonly columns: readonly PreviewColumn[];
  /** Values as PostgreSQL writes them. */
  readonly rows: readonly (readonly (string | null)[])[];
  /** All rows of the query; null where counting took too long. */
  readonly total: number | null;
  readonly milliseconds: number;
  /** The statement that ran. */
  readonly sql: string;
  /** Drafted or unbuilt tables whose queries were put in. */
  readonly inlined: readonly string[];
}

const TIMEOUT_SECONDS = 30;
const COUNT_SECONDS = 5;
/** A value longer than this is cut; the grid says so. */
const LONGEST_VALUE = 5000;

/** Runs a person's query as the reader: read-only, limited, timed, cancelled when the person leaves, rolled back. */
@Injectable()
export class PreviewService {
  constructor(
    private readonly projects: ProjectService,
    private readonly warehouse: WarehouseService,
  ) {}

  /** Rows of a table where it stands in an environment, or of its query where it is not built. */
  async table(slug: string, table: string, limit: number, signal: AbortSignal): Promise<Preview> {
    const line = await this.projects.line(slug);
    const definition = line.project.tables.get(table);
    if (!definition) throw notFound(`The table ${table}`);
    const standings = await this.standings(line);
    const place = standings.get(table)?.place;
    if (place) return this.run(`select * from ${qualified(place)}`, limit, signal);
    if (definition.kind === 'definition' && definition.query) return this.query(line, definition.path, definition.query, limit, signal, standings);
    throw this.notThere(table);
  }

  /** Rows of a file's query as it is being written. */
  async text(slug: string, path: string, text: string, limit: number, signal: AbortSignal): Promise<Preview> {
    const line = await this.projects.line(slug);
    const indexed = indexFile(path, text);
    const syntax = indexed.diagnostics.find((d) => d.code === 'syntax');
    if (syntax) throw new Problem(422, 'syntax', syntax.message, undefined, { error: stepError(new Error(syntax.message), line.project), path });
    const query = queryIn(indexed);
    if (!query) throw new Problem(422, 'no-query', `${path} has no query to preview`, 'Write a select.');
    const project: Project = { ...line.project, files: new Map([...line.project.files, [path, indexed]]) };
    return this.query({ ...line, project }, path, query, limit, signal);
  }

  private async standings(line: Line): Promise<Map<string, Standing>> {
    return this.warehouse.standings(line.project, line.environment, this.projects.environmentOf(undefined));
  }

  private async query(line: Line, path: string, query: Query, limit: number, signal: AbortSignal, known?: Map<string, Standing>): Promise<Preview> {
    const { project } = line;
    const standings = known ?? (await this.standings(line));
    const names: Names = {
      placeOf: (table) => standings.get(table)?.place,
      functionsSchema: line.environment.schemaOf('functions'),
      settings: settingsOf(project),
    };
    const reads = [...new Set(query.tables.map((t) => `${t.layer ?? ''}.${t.name}`))];
    const missing = this.missing(project, reads, standings);
    if (missing) throw missing;
    const main = compileText(project.files.get(path)!, query, query, names);
    const full = previewQuery(project, main, reads, names);
    const inlined = reads.filter((r) => project.tables.has(r) && !standings.get(r)?.place);
    const preview = await this.run(full.text, limit, signal).catch((error: unknown) => {
      if (!isDatabaseError(error)) throw error;
      const told = stepError(error, project, { path, original: full.original });
      throw new Problem(422, 'query-failed', told.message, told.hint, { error: told, sql: full.text });
    });
    return { ...preview, inlined };
  }

  /** Source and reference tables cannot be put in as queries: they have to be there. */
  private missing(project: Project, reads: readonly string[], standings: Map<string, Standing>, seen = new Set<string>()): Problem | undefined {
    for (const name of reads) {
      const table = project.tables.get(name);
      if (!table || seen.has(name) || standings.get(name)?.place) continue;
      seen.add(name);
      if (table.kind !== 'definition') return this.notThere(name);
      const inner = this.missing(project, project.reads.get(name) ?? [], standings, seen);
      if (inner) return inner;
    }
    return undefined;
  }

  private notThere(table: string): Problem {
    return new Problem(409, 'not-built', `${table} has no rows in the warehouse yet`, 'Bring it in under Sources, or run it.', { table });
  }

  /** @throws DatabaseError as PostgreSQL sends it, or Problem when stopped */
  private async run(sql: string, limit: number, signal: AbortSignal): Promise<Preview> {
    const client = await this.warehouse.connect('reader');
    const stop = () => void this.warehouse.cancel('reader', client);
    signal.addEventListener('abort', stop);
    const started = performance.now();
    let sound = true;
    try {
      if (signal.aborted) throw new Problem(499, 'stopped', 'The preview was stopped');
      await client.query('begin transaction read only');
      for (const setting of SESSION_SETTINGS) await client.query(setting);
      await client.query(`set local statement_timeout = ${literal(`${TIMEOUT_SECONDS}s`)}`);
      const { rows, fields } = await readCursor(client, sql, limit + 1, this.warehouse.types);
      const milliseconds = performance.now() - started;
      const types = await this.typeNames(client, fields);
      const total = rows.length <= limit ? rows.length : await this.count(client, sql);
      return {
        columns: fields.map((f, i) => ({ name: f.name, type: types[i]! })),
        rows: rows.slice(0, limit).map(cut),
        total,
        milliseconds: Math.round(milliseconds),
        sql,
        inlined: [],
      };
    } catch (error) {
      if (signal.aborted) throw new Problem(499, 'stopped', 'The preview was stopped');
      throw error;
    } finally {
      signal.removeEventListener('abort', stop);
      sound = await client
        .query('rollback')
        .then(() => client.query('discard all'))
        .then(
          () => true,
          () => false,
        );
      client.release(!sound);
    }
  }

  private async typeNames(client: pg.PoolClient, fields: readonly pg.FieldDef[]): Promise<string[]> {
    const { rows } = await client.query<{ type: string }>(
      'select format_type(t, m) as type from unnest($1::oid[], $2::int[]) with ordinality as f (t, m, n) order by n',
      [fields.map((f) => f.dataTypeID), fields.map((f) => f.dataTypeModifier)],
    );
    return rows.map((r) => shortType(r.type));
  }

  private async count(client: pg.PoolClient, sql: string): Promise<number | null> {
    await client.query('savepoint before_count');
    await client.query(`set local statement_timeout = ${literal(`${COUNT_SECONDS}s`)}`);
    try {
      const { rows } = await client.query<{ n: string }>(`select count(*) as n from (\n${sql}\n) as counted`);
      return Number(rows[0]!.n);
    } catch {
      await client.query('rollback to savepoint before_count');
      return null;
    }
  }
}

function cut(row: readonly (string | null)[]): (string | null)[] {
  return row.map((v) => (v !== null && v.length > LONGEST_VALUE ? `${v.slice(0, LONGEST_VALUE)}…` : v));
}

/** The first rows of one statement, through the extended protocol. */
async function readCursor(
  client: pg.PoolClient,
  sql: string,
  most: number,
  types: pg.CustomTypesConfig,
): Promise<{ rows: (string | null)[][]; fields: pg.FieldDef[] }> {
  const cursor = client.query(new Cursor<(string | null)[]>(sql, [], { rowMode: 'array', types }));
  try {
    const rows = await cursor.read(most);
    const { fields } = (cursor as unknown as { _result: { fields: pg.FieldDef[] } })._result;
    return { rows, fields };
  } finally {
    await cursor.close().catch(() => undefined);
  }
}

function queryIn(file: ReturnType<typeof indexFile>): Query | undefined {
  const definition = file.tables.find((t): t is Definition => t.kind === 'definition');
  return definition?.query ?? file.checks[0]?.query ?? file.adhoc[0]?.query;
}
