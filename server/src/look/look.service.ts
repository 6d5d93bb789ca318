import type { PageAnswer, ProfileAnswer } from '@ouvrage/api/rows';
import { Injectable } from '@nestjs/common';
import {
  allRows,
  countRows,
  pageStatement,
  profileStatement,
  sampleQuery,
  type PageColumn,
  type PageRequest,
  type Statement as ParameterStatement,
} from '@ouvrage/core/look';
import type { Profile } from '@ouvrage/core/model';
import { ident, literal } from '@ouvrage/core/sql';
import type pg from 'pg';
import type Cursor from 'pg-cursor';
import { Problem } from '../shared/problem.js';
import { PreviewService, type PreviewAsked, type TableSource } from './preview.service.js';
import { ReaderService } from '../warehouse/reader.service.js';
import { columnsOf, cursorOf, shownRows } from '../warehouse/shown-rows.js';
import { isOfStatement } from '../warehouse/sql-error.js';

/** What of a table a person looks at. */
export type Look = Pick<PageRequest, 'show' | 'filters' | 'sort' | 'after' | 'limit'>;

const COUNT_SECONDS = 3;
/** Tables with more rows are profiled from about this many. */
export const PROFILED_ROWS = 100_000;

/** Rows and profiles of tables, as the reader. */
/** What is streamed, and until when. */
export interface Streamed {
  readonly slug: string;
  readonly table: string;
  readonly look: Omit<Look, 'after' | 'limit'>;
  readonly signal: AbortSignal;
}

/** What takes rows: told of their columns first, then given them in batches. */
export type Sink = (columns: readonly PageColumn[], batches: AsyncIterable<(string | null)[][]>) => Promise<void>;

/** @throws Problem where two columns bear one name */
export function refuseRepeated(columns: readonly PageColumn[]): void {
  const twice = columns.find((c, i) => columns.findIndex((d) => d.name === c.name) !== i);
  if (twice)
    throw new Problem(
      422,
      'repeated-column',
      `Two columns are called ${twice.name}`,
      'Name one of them otherwise with `as`: a file tells columns apart by their names.',
    );
}

const leftOutOf = ({ leftOut }: TableSource) => (leftOut ? { leftOut } : {});

/** Columns with the types that they are given as: text, where some value is unfit for the type. */
async function asTheyFit(
  client: pg.ClientBase,
  from: string,
  columns: readonly PageColumn[],
  unfit: (column: PageColumn) => string | undefined,
): Promise<PageColumn[]> {
  const conditions = columns.map(unfit);
  if (conditions.every((c) => c === undefined)) return [...columns];
  const items = conditions.map((c, i) => `coalesce(bool_or(${c ?? 'false'}), false) as c${i}`);
  const [found] = (await client.query<Record<string, boolean | string>>(`select ${items.join(', ')} from ${from} as s`))
    .rows;
  return columns.map((c, i) => (String(found![`c${i}`]).startsWith('t') ? { ...c, type: 'text' } : c));
}

@Injectable()
export class LookService {
  constructor(
    private readonly previews: PreviewService,
    private readonly reader: ReaderService,
  ) {}

  async page(slug: string, table: string, look: Look, signal: AbortSignal): Promise<PageAnswer> {
    const source = await this.previews.sourceOf(slug, table);
    return this.read(signal, async (client) => {
      const started = performance.now();
      const { columns, isTable } = await this.shape(client, source);
      checkColumns(look, columns);
      const key = source.key.length ? source.key : isTable ? ['ctid'] : [];
      const request: PageRequest = { ...look, source: source.from, columns, key, limit: look.limit + 1 };
      const { sql, values, orderColumns } = pageStatement(request);
      const {
        rows,
        columns: shownColumns,
        isFull,
      } = await shownRows(client, { sql, values }, look.limit + 1, orderColumns);
      const milliseconds = Math.round(performance.now() - started);
      const width = shownColumns.length - orderColumns;
      const shown = rows.slice(0, look.limit);
      const more = rows.length > look.limit || isFull;
      return {
        columns: shownColumns.slice(0, width).map((f) => columns.find((c) => c.name === f.name)!),
        rows: shown.map((r) => r.slice(0, width)),
        next: more ? shown.at(-1)!.slice(width) : null,
        total: look.after ? null : more ? await this.total(client, request) : { rows: shown.length, exact: true },
        milliseconds,
        where: source.where,
        ...leftOutOf(source),
      };
    });
  }

  /** Counted where that takes little time, else the planner's estimate. */
  private async total(client: pg.ClientBase, request: PageRequest): Promise<{ rows: number; exact: boolean }> {
    const counting = countRows(request);
    const exact = await this.reader.count(client, counting, COUNT_SECONDS);
    if (exact !== null) return { rows: exact, exact: true };
    return { rows: await this.estimate(client, allRows({ ...request, sort: [] })), exact: false };
  }

  private async estimate(client: pg.ClientBase, { sql, values }: ParameterStatement): Promise<number> {
    const { rows } = await client.query<{ 'QUERY PLAN': string }>({
      text: `explain (format json) ${sql}`,
      values: [...values],
    });
    const plan = rows[0]!['QUERY PLAN'] as unknown;
    const [top] = (typeof plan === 'string' ? JSON.parse(plan) : plan) as { Plan: { 'Plan Rows': number } }[];
    return top!.Plan['Plan Rows'];
  }

  async profile(slug: string, table: string, of: 'here' | 'production', signal: AbortSignal): Promise<ProfileAnswer> {
    const source = await this.previews.sourceOf(slug, table, of);
    return this.read(signal, async (client) => {
      const started = performance.now();
      const { columns, isTable } = await this.shape(client, source);
      const estimatedRows = await this.estimate(client, { sql: `select * from ${source.from} as counted`, values: [] });
      const share = estimatedRows > PROFILED_ROWS * 1.5 ? PROFILED_ROWS / estimatedRows : 1;
      const names = columns.map((c) => c.name);
      const from =
        share < 1 ? `(${sampleQuery(source.from, names, { kind: 'plain', share }, { isTable })})` : source.from;
      const cursor = cursorOf(client, { sql: profileStatement(from, columns), values: [] });
      const [row] = await cursor.read(1);
      await cursor.close();
      const profile = JSON.parse(row![0]!) as Profile;
      return {
        ...profile,
        where: source.where,
        ...leftOutOf(source),
        share,
        estimatedRows: share < 1 ? estimatedRows : profile.rows,
        milliseconds: Math.round(performance.now() - started),
      };
    });
  }

  /**
   * All rows that a look's filters leave, given to `sink` in batches.
   * @param unfit a condition of values that the sink cannot take as what they are: their column is given as text
   */
  async stream(
    { slug, table, look, signal }: Streamed,
    sink: Sink,
    unfit: (column: PageColumn) => string | undefined = () => undefined,
  ): Promise<void> {
    await this.streamSource(await this.previews.sourceOf(slug, table), { look, signal }, sink, unfit);
  }

  /**
   * All rows of a file's query as it is being written, given to `sink` in batches.
   * @throws Problem where two columns bear one name: no file could tell them apart
   */
  async streamQuery(
    slug: string,
    asked: Omit<PreviewAsked, 'limit'> & { readonly signal: AbortSignal },
    sink: Sink,
    unfit?: (column: PageColumn) => string | undefined,
  ): Promise<void> {
    const source = await this.previews.sourceOfText(slug, asked, asked.signal);
    await this.streamSource(source, { look: { show: [], filters: [], sort: [] }, signal: asked.signal }, sink, unfit);
  }

  /** All rows of a query of our own, given to `sink` in batches. */
  async streamRows(sql: string, signal: AbortSignal, sink: Sink): Promise<void> {
    const source: TableSource = { from: `(\n${sql}\n)`, where: 'here', key: [] };
    await this.streamSource(source, { look: { show: [], filters: [], sort: [] }, signal }, sink);
  }

  private async streamSource(
    source: TableSource,
    { look, signal }: Pick<Streamed, 'look' | 'signal'>,
    sink: Sink,
    unfit: (column: PageColumn) => string | undefined = () => undefined,
  ): Promise<void> {
    await this.read(
      signal,
      async (client) => {
        const { columns } = await this.shape(client, source);
        refuseRepeated(columns);
        checkColumns(look, columns);
        const shown = look.show.length ? look.show.map((name) => columns.find((c) => c.name === name)!) : columns;
        const given = await asTheyFit(client, source.from, shown, unfit);
        const cursor = cursorOf(client, withinLimit(allRows({ ...look, source: source.from, columns }), shown));
        try {
          await sink(given, batches(cursor));
        } finally {
          await cursor.close().catch(() => undefined);
        }
      },
      EXPORT_SECONDS,
    );
  }

  /** Columns of a source, and whether it is a table with rows of its own. */
  private async shape(
    client: pg.ClientBase,
    source: TableSource,
  ): Promise<{ columns: PageColumn[]; isTable: boolean }> {
    const columns = await columnsOf(client, { sql: `select * from ${source.from} as described`, values: [] });
    const { rows } = await client.query<{ kind: string }>(
      'select relkind as kind from pg_class where oid = to_regclass($1)',
      [source.place ? source.from : null],
    );
    return { columns: columns.map(({ name, type }) => ({ name, type })), isTable: rows[0]?.kind === 'r' };
  }

  private read<T>(signal: AbortSignal, body: (client: pg.ClientBase) => Promise<T>, seconds?: number): Promise<T> {
    return this.reader.read(signal, body, seconds).catch((error: unknown) => {
      if (!isOfStatement(error)) throw error;
      const [, tooLong] = new RegExp(`${TOO_LONG}([^"]*)`).exec(error.message) ?? [];
      if (tooLong !== undefined) {
        const [, column, size] = /^(.*), (\d+)$/.exec(tooLong) ?? [];
        throw new Problem(
          422,
          'too-long',
          `A value of ${column} has ${size} bytes: exported values can have up to ${LONGEST_EXPORTED}`,
          'Remove the column, or filter out its longest values.',
        );
      }
      if (error.code === '57014')
        throw new Problem(
          504,
          'too-slow',
          'The rows could not be read in time',
          'Filter more, or sort by a column with an index.',
        );
      throw new Problem(422, 'query-failed', error.message, error.hint);
    });
  }
}

const EXPORT_SECONDS = 3600;
const MOST_ROWS = 2000;
const BATCH_CHARACTERS = 4_000_000;

/** Rows in batches of about as many characters each, however wide the rows are. */
async function* batches(cursor: Cursor<(string | null)[]>): AsyncGenerator<(string | null)[][]> {
  for (let size = 1; ;) {
    const rows = await cursor.read(size);
    if (rows.length === 0) return;
    const characters = rows.reduce((sum, row) => sum + row.reduce((n, v) => n + (v?.length ?? 0), 0), 0);
    // No more than twice the last: the next rows may be wider.
    size = Math.max(
      1,
      Math.min(MOST_ROWS, size * 2, Math.floor((BATCH_CHARACTERS * rows.length) / Math.max(1, characters))),
    );
    yield rows;
  }
}

/** A value that a file can hold: a longer one stops the export, and is told by its column. */
const LONGEST_EXPORTED = 16_000_000;
const TOO_LONG = 'ouvrage: too long: ';

/** The rows of an export; a value that is too long fails the cast that it is put into, which tells where it was. */
function withinLimit({ sql, values }: ParameterStatement, columns: readonly PageColumn[]): ParameterStatement {
  const long = columns.filter(
    (c) =>
      !/^(smallint|integer|bigint|real|double precision|numeric|boolean|date|time|timetz|timestamp|timestamptz|interval|uuid)\b/.test(
        c.type,
      ),
  );
  if (long.length === 0) return { sql, values };
  const conditions = long.map((c) => {
    const size = `octet_length(format('%s', rows.${ident(c.name)}))`;
    return `case when ${size} > ${LONGEST_EXPORTED} then cast(${literal(`${TOO_LONG}${c.name}, `)} || ${size} as bigint) end is null`;
  });
  return { sql: `select * from (\n${sql}\n) as rows where ${conditions.join(' and ')}`, values };
}

function checkColumns({ show, filters, sort }: Omit<Look, 'after' | 'limit'>, columns: readonly PageColumn[]): void {
  const names = new Set(columns.map((c) => c.name));
  const unknown = [...show, ...filters.map((f) => f.column), ...sort.map((s) => s.column)].filter((n) => !names.has(n));
  if (unknown.length)
    throw new Problem(
      422,
      'unknown-column',
      `There is no column ${[...new Set(unknown)].join(', ')}`,
      `The columns are ${[...names].join(', ')}.`,
    );
}
