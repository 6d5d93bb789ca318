import { Injectable } from '@nestjs/common';
import {
  allRows,
  countRows,
  pageStatement,
  profileStatement,
  sampleQuery,
  type PageColumn,
  type PageRequest,
  type ParameterStatement,
  type Profile,
} from '@ouvrage/core';
import type pg from 'pg';
import { Problem } from '../shared/problem.js';
import { cut, PreviewService, type TableSource } from './preview.service.js';
import { ReaderService } from './reader.service.js';
import { isDatabaseError } from './sql-error.js';

/** What of a table a person looks at. */
export type Look = Pick<PageRequest, 'show' | 'filters' | 'sort' | 'after' | 'limit'>;

export interface Page {
  readonly columns: readonly PageColumn[];
  readonly rows: readonly (readonly (string | null)[])[];
  /** For the page behind this one; null where this is the last. */
  readonly next: readonly (string | null)[] | null;
  /** On the first page only. */
  readonly total: { readonly rows: number; readonly exact: boolean } | null;
  readonly milliseconds: number;
  readonly where: TableSource['where'];
}

export interface ProfileAnswer extends Profile {
  readonly where: TableSource['where'];
  /** The share of the rows that was looked at; 1 for all of them. */
  readonly share: number;
  readonly estimatedRows: number;
  readonly milliseconds: number;
}

const COUNT_SECONDS = 3;
/** Tables with more rows are profiled from about this many. */
export const PROFILED_ROWS = 100_000;

/** Rows and profiles of tables, as the reader. */
@Injectable()
export class LookService {
  constructor(
    private readonly previews: PreviewService,
    private readonly reader: ReaderService,
  ) {}

  async page(slug: string, table: string, look: Look, signal: AbortSignal): Promise<Page> {
    const source = await this.previews.sourceOf(slug, table);
    return this.read(signal, async (client) => {
      const started = performance.now();
      const { columns, isTable } = await this.shape(client, source);
      checkColumns(look, columns);
      const key = source.key.length ? source.key : isTable ? ['ctid'] : [];
      const request: PageRequest = { ...look, source: source.from, columns, key, limit: look.limit + 1 };
      const { sql, values, orderColumns } = pageStatement(request);
      const { rows, fields } = await this.reader.rows(client, { sql, values }, look.limit + 1);
      const milliseconds = Math.round(performance.now() - started);
      const width = fields.length - orderColumns;
      const shown = rows.slice(0, look.limit);
      const more = rows.length > look.limit;
      return {
        columns: fields.slice(0, width).map((f) => columns.find((c) => c.name === f.name)!),
        rows: shown.map((r) => cut(r.slice(0, width))),
        next: more ? shown.at(-1)!.slice(width) : null,
        total: look.after ? null : more ? await this.total(client, request) : { rows: shown.length, exact: true },
        milliseconds,
        where: source.where,
      };
    });
  }

  /** Counted where that takes little time, else the planner's estimate. */
  private async total(client: pg.PoolClient, request: PageRequest): Promise<{ rows: number; exact: boolean }> {
    const counting = countRows(request);
    const exact = await this.reader.count(client, counting, COUNT_SECONDS);
    if (exact !== null) return { rows: exact, exact: true };
    return { rows: await this.estimate(client, allRows({ ...request, sort: [] })), exact: false };
  }

  private async estimate(client: pg.PoolClient, { sql, values }: ParameterStatement): Promise<number> {
    const { rows } = await client.query<{ 'QUERY PLAN': string }>({ text: `explain (format json) ${sql}`, values: [...values] });
    const plan = rows[0]!['QUERY PLAN'] as unknown;
    const [top] = (typeof plan === 'string' ? JSON.parse(plan) : plan) as { Plan: { 'Plan Rows': number } }[];
    return top!.Plan['Plan Rows'];
  }

  async profile(slug: string, table: string, ofProduction: boolean, signal: AbortSignal): Promise<ProfileAnswer> {
    const source = await this.previews.sourceOf(slug, table, ofProduction);
    return this.read(signal, async (client) => {
      const started = performance.now();
      const { columns, isTable } = await this.shape(client, source);
      const estimatedRows = await this.estimate(client, { sql: `select * from ${source.from} as counted`, values: [] });
      const share = estimatedRows > PROFILED_ROWS * 1.5 ? PROFILED_ROWS / estimatedRows : 1;
      const names = columns.map((c) => c.name);
      const from = share < 1 ? `(${sampleQuery(source.from, names, { kind: 'plain', share }, isTable)})` : source.from;
      const { rows } = await this.reader.rows(client, { sql: profileStatement(from, columns), values: [] }, 1);
      const profile = JSON.parse(rows[0]![0]!) as Profile;
      return {
        ...profile,
        where: source.where,
        share,
        estimatedRows: share < 1 ? estimatedRows : profile.rows,
        milliseconds: Math.round(performance.now() - started),
      };
    });
  }

  /** All rows that a look's filters leave, given to `sink` in batches. */
  async stream(
    slug: string,
    table: string,
    look: Omit<Look, 'after' | 'limit'>,
    signal: AbortSignal,
    sink: (columns: readonly PageColumn[], batches: AsyncIterable<(string | null)[][]>) => Promise<void>,
  ): Promise<void> {
    const source = await this.previews.sourceOf(slug, table);
    await this.read(
      signal,
      async (client) => {
        const { columns } = await this.shape(client, source);
        checkColumns(look, columns);
        const shown = look.show.length ? look.show.map((name) => columns.find((c) => c.name === name)!) : columns;
        const cursor = this.reader.cursor(client, allRows({ ...look, source: source.from, columns }));
        try {
          await sink(shown, batches(cursor));
        } finally {
          await cursor.close().catch(() => undefined);
        }
      },
      EXPORT_SECONDS,
    );
  }

  /** Columns of a source, and whether it is a table with rows of its own. */
  private async shape(client: pg.PoolClient, source: TableSource): Promise<{ columns: PageColumn[]; isTable: boolean }> {
    const { fields } = await this.reader.rows(client, { sql: `select * from ${source.from} as described limit 0`, values: [] }, 1);
    const types = await this.reader.typeNames(client, fields);
    const { rows } = await client.query<{ kind: string }>('select relkind as kind from pg_class where oid = to_regclass($1)', [
      source.place ? source.from : null,
    ]);
    return { columns: fields.map((f, i) => ({ name: f.name, type: types[i]! })), isTable: rows[0]?.kind === 'r' };
  }

  private read<T>(signal: AbortSignal, body: (client: pg.PoolClient) => Promise<T>, seconds?: number): Promise<T> {
    return this.reader.read(signal, body, seconds).catch((error: unknown) => {
      if (!isDatabaseError(error)) throw error;
      if (error.code === '57014') throw new Problem(504, 'too-slow', 'The rows could not be read in time', 'Filter more, or sort by a column with an index.');
      throw new Problem(422, 'query-failed', error.message, error.hint);
    });
  }
}

const EXPORT_SECONDS = 3600;
const BATCH = 2000;

async function* batches(cursor: ReturnType<ReaderService['cursor']>): AsyncGenerator<(string | null)[][]> {
  for (;;) {
    const rows = await cursor.read(BATCH);
    if (rows.length === 0) return;
    yield rows;
  }
}

function checkColumns({ show, filters, sort }: Omit<Look, 'after' | 'limit'>, columns: readonly PageColumn[]): void {
  const names = new Set(columns.map((c) => c.name));
  const unknown = [...show, ...filters.map((f) => f.column), ...sort.map((s) => s.column)].filter((n) => !names.has(n));
  if (unknown.length)
    throw new Problem(422, 'unknown-column', `There is no column ${[...new Set(unknown)].join(', ')}`, `The columns are ${[...names].join(', ')}.`);
}
