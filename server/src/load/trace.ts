import {
  FITS_FUNCTION,
  likeliest,
  misfitColumn,
  misfitQuery,
  ROWS_A_BLOCK,
  rowsBetween,
  suspects,
  TRACED_ROWS,
  valueQueries,
  type Queried,
  type QueryPart,
  type StoredInput,
  type Suspect,
} from '@ouvrage/core/assist';
import type { Names } from '@ouvrage/core/compile';
import { SESSION_SETTINGS } from '@ouvrage/core/load';
import type { Project } from '@ouvrage/core/model';
import { lineColumn, qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { codeOf, StatementFailed } from '../warehouse/load-errors.js';
import { isDatabaseError, type DatabaseError } from '../warehouse/sql-error.js';
import { Statements } from '../warehouse/statements.js';
import type { FaultRows } from '@ouvrage/api/rows';
import type { StepError } from '@ouvrage/api/run';

/** Errors about a value: it has not the form of its type, or does not fit into it. */
const OF_VALUES = new Set(['22P02', '22007', '22008', '22003', '22001']);
/** Classes of errors that rows cause: data, cardinality, and what functions raise. */
const OF_ROWS = ['22', '21', 'P0'];
/** Looking for the place and the rows may not take longer than people wait. */
const LONGEST_MS = { load: 15_000, preview: 3_000 };

/** The value that an error is about, where its message ends with it. */
const valueOf = (message: string): string | undefined => /: "([^"]*)"$/.exec(message)?.[1];

/** What was found of an error. */
type Traced = Pick<StepError, 'rows' | 'detail' | 'path' | 'line' | 'column'>;

/** The database's error, if it is one that rows may cause. */
export function errorOfRows(error: unknown): DatabaseError | undefined {
  const cause = error instanceof StatementFailed ? error.cause : error;
  return isDatabaseError(cause) && OF_ROWS.includes((cause.code ?? '').slice(0, 2)) ? cause : undefined;
}

/**
 * Where in the author's text a load or a preview failed, and the rows that made it fail: those of the query
 * that do not fit the contract, which only loads know, else those of its inputs that hold the value or with which
 * the query still fails. Nothing where they are not found in time.
 * @param client a connection in a transaction that no error has ended; what is done here is taken back
 */
export async function traceRows(
  client: pg.ClientBase,
  { project, of, names }: { readonly project: Project; readonly of: Queried; readonly names: Names },
  cause: DatabaseError,
  work: keyof typeof LONGEST_MS = 'load',
): Promise<Traced> {
  try {
    await client.query('savepoint tracing');
    for (const setting of SESSION_SETTINGS) await client.query(setting);
    const trace = new Trace(client, project, names, cause, Date.now() + LONGEST_MS[work]);
    return (work === 'load' && (await trace.misfits(of))) || (await trace.place(of));
  } finally {
    await client.query('rollback to savepoint tracing');
  }
}

class Trace {
  private readonly statements: Statements;

  constructor(
    private readonly client: pg.ClientBase,
    private readonly project: Project,
    private readonly names: Names,
    private readonly cause: DatabaseError,
    private readonly until: number,
  ) {
    this.statements = new Statements(client);
  }

  /** Rows of the query that do not fit the contract, and the column there. */
  async misfits(of: Queried): Promise<Traced | undefined> {
    if (!OF_VALUES.has(this.cause.code!)) return undefined;
    await this.client.query(FITS_FUNCTION);
    const query = misfitQuery(this.project, of, this.names);
    const rows = query === undefined ? undefined : await this.ask(query);
    if (!rows) return undefined;
    const column = misfitColumn(of, rows.rows[0]![0]!);
    return {
      rows,
      detail: 'The rows of the query that do not fit the contract:',
      ...(column && this.at(of, column.range.start)),
    };
  }

  /** The place in the text of a query, and rows. */
  async place(of: Queried): Promise<Traced> {
    const found = await this.find(suspects(this.project, of, this.names));
    const held = await this.holders(of);
    if (!found) return held ?? {};
    return { ...this.at(found.suspect.of, found.part.start), ...(held ?? (await this.rowsOf(found))) };
  }

  private at({ path }: Queried, offset: number): Traced {
    return { path, ...lineColumn(this.project.files.get(path)!.text, offset) };
  }

  /** Rows of an input that hold the value that the error is about. */
  private async holders(of: Queried): Promise<Traced | undefined> {
    const value = OF_VALUES.has(this.cause.code!) ? valueOf(this.cause.message) : undefined;
    for (const input of value === undefined ? [] : valueQueries(this.project, of, value, this.names)) {
      const rows = await this.ask(input.sql);
      if (rows) return { rows, detail: `“${value!}” is in these rows of ${input.table}:` };
    }
    return undefined;
  }

  /** The smallest part of a query that causes the error. */
  private async find(among: readonly Suspect[]): Promise<{ suspect: Suspect; part: QueryPart } | undefined> {
    for (const suspect of among) {
      let part: QueryPart | undefined;
      for (let parts = suspect.parts, failing; (failing = await this.firstFailing(parts)); parts = failing.parts)
        part = failing;
      if (part) return { suspect, part };
    }
    return undefined;
  }

  private async firstFailing(parts: readonly QueryPart[]): Promise<QueryPart | undefined> {
    for (const part of parts) if (await this.fails(part.sql())) return part;
    return undefined;
  }

  /** Rows of the likeliest input with which a part still causes the error. */
  private async rowsOf({ suspect, part }: { suspect: Suspect; part: QueryPart }): Promise<Traced> {
    for (const input of likeliest(this.project, suspect, part)) {
      const narrowed = await this.narrowed(part, input);
      const rows = narrowed === undefined ? undefined : await this.ask(narrowed);
      if (rows && rows.rows.length <= TRACED_ROWS)
        return {
          rows,
          detail: `The error comes from ${rows.rows.length === 1 ? 'this row' : 'these rows'} of ${input.table}:`,
        };
    }
    return {};
  }

  /** A query for as few rows of an input as are found, by halves, to cause the error; nothing where it happens without any. */
  private async narrowed(part: QueryPart, { table, place }: StoredInput): Promise<string | undefined> {
    const { rows } = await this.client.query<{ blocks: number }>(
      `select (pg_relation_size($1::regclass) / current_setting('block_size')::integer)::integer as blocks`,
      [qualified(place)],
    );
    const failsWith = (from: number, to: number) =>
      this.fails(part.sql(new Map([[table, rowsBetween(place, from, to)]])));
    if (await failsWith(0, 0)) return undefined;
    let [from, to] = [0, rows[0]!.blocks * ROWS_A_BLOCK];
    while (to - from > 1) {
      const middle = Math.floor((from + to) / 2);
      if (await failsWith(from, middle)) to = middle;
      else if (await failsWith(middle, to)) from = middle;
      else break;
    }
    return `${rowsBetween(place, from, to)} limit ${TRACED_ROWS + 1}`;
  }

  /** Whether a query fails as the load did. */
  private fails(sql: string): Promise<boolean> {
    return this.trying(
      () => this.client.query(sql).then(() => false),
      (error) => codeOf(error) === this.cause.code,
    );
  }

  /** @returns rows, if there are any and the query does not fail */
  private ask(sql: string): Promise<FaultRows | undefined> {
    return this.trying(
      async () => {
        const found = await this.statements.faultRows(sql);
        return found.rows.length ? found : undefined;
      },
      () => undefined,
    );
  }

  /** Does something that may fail, within the time that is left. */
  private async trying<T>(work: () => Promise<T>, failed: (error: unknown) => T): Promise<T> {
    await this.client.query(`savepoint trying; set local statement_timeout = ${Math.max(1, this.until - Date.now())}`);
    try {
      const result = await work();
      await this.client.query('release savepoint trying');
      return result;
    } catch (error) {
      await this.client.query('rollback to savepoint trying');
      return failed(error);
    }
  }
}
