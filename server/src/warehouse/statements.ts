import type { LoadStatement } from '@ouvrage/core/compile';
import { SESSION_SETTINGS } from '@ouvrage/core/load';
import type pg from 'pg';
import { from as copyFrom } from 'pg-copy-streams';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { FaultRows } from '@ouvrage/api/rows';
import type { RanStatement } from '@ouvrage/api/run';
import { StatementFailed } from './load-errors.js';
import { shownRows } from './shown-rows.js';
import { isDatabaseError } from './sql-error.js';

/** Rows at fault, and of each kind that a load counts, that are kept for people. */
export const FAULT_ROWS = 100;

/** Runs statements on one connection, in a transaction that the caller begins and ends, and keeps what ran. */
export class Statements {
  readonly ran: RanStatement[] = [];

  constructor(readonly client: pg.ClientBase) {}

  /** What is sent before the next statement, in the same message. */
  private opening = '';

  /** Begins a transaction with the settings of loads; it is sent with the first statement. */
  begin(): void {
    this.opening = ['begin', ...SESSION_SETTINGS, ''].join(';\n');
  }

  /** A savepoint goes with the next statement. */
  savepoint(name: string): void {
    this.opening += `savepoint ${name};\n`;
  }

  /**
   * @returns what each statement of a text gave
   * @throws the database's error, its position counted from the text's beginning
   */
  async send(text: string): Promise<pg.QueryResult[]> {
    const opening = this.opening;
    this.opening = '';
    try {
      return [await this.client.query(opening + text)].flat();
    } catch (error) {
      if (isDatabaseError(error) && error.position !== undefined)
        Object.assign(error, { position: String(Number(error.position) - [...opening].length) });
      throw error;
    }
  }

  /**
   * Statements in one message: on small tables, messages take most of the time.
   * @param unseen statements that follow in the same message and are not kept for people
   * @throws StatementFailed, which names the last of them
   */
  async together(statements: readonly LoadStatement[], unseen: readonly string[] = []): Promise<pg.QueryResult[]> {
    const last = statements.at(-1);
    if (!last) return this.send(unseen.join(';\n'));
    const started = performance.now();
    for (const { kind, sql } of statements.slice(0, -1)) this.ran.push({ kind, sql, milliseconds: null, rows: null });
    const keep = (rows: number | null) =>
      this.ran.push({ kind: last.kind, sql: last.sql, milliseconds: Math.round(performance.now() - started), rows });
    try {
      const results = await this.send([...statements.map((s) => s.sql), ...unseen].join(';\n'));
      keep(results.at(-1 - unseen.length)?.rowCount ?? null);
      return results;
    } catch (error) {
      keep(null);
      throw new StatementFailed(error, last);
    }
  }

  /** Settings of the session, which cannot fail: they go with the next statement. */
  settings(statements: readonly string[]): void {
    this.ran.push({ kind: 'session', sql: statements.join(';\n'), milliseconds: null, rows: null });
    this.opening += statements.map((s) => `${s};\n`).join('');
  }

  async run(statement: LoadStatement): Promise<pg.QueryResult> {
    return (await this.together([statement])).at(-1)!;
  }

  /** Runs a statement whose outcome nobody looks at: a setting goes with the next one. */
  async runInTurn(statement: LoadStatement): Promise<pg.QueryResult | undefined> {
    if (statement.kind !== 'session' || !/^set local /i.test(statement.sql)) return this.run(statement);
    this.settings([statement.sql]);
    return undefined;
  }

  plain(kind: LoadStatement['kind'], sql: string): Promise<pg.QueryResult> {
    return this.run({ kind, sql });
  }

  /** Streams text into COPY. */
  async copy(sql: string, text: string): Promise<void> {
    const started = performance.now();
    const stream = this.client.query(copyFrom(sql));
    try {
      await pipeline(Readable.from([text]), stream);
      this.ran.push({
        kind: 'build',
        sql,
        milliseconds: Math.round(performance.now() - started),
        rows: stream.rowCount,
      });
    } catch (error) {
      throw new StatementFailed(error, { kind: 'build', sql });
    }
  }

  /** Rows with the names of their columns, all values as text. */
  async faultRows(sql: string): Promise<FaultRows> {
    const { columns, rows } = await shownRows(this.client, { sql, values: [] }, FAULT_ROWS);
    return { columns: columns.map((c) => c.name), rows };
  }

  /** The types of a query's columns, as PostgreSQL writes them. */
  async typesOf(sql: string): Promise<Map<string, string>> {
    const { fields } = await this.plain('check', sql);
    const { rows } = await this.client.query<{ type: string }>(
      'select format_type(o, m) as type from unnest($1::oid[], $2::int[]) with ordinality as f (o, m, n) order by n',
      [fields.map((f) => f.dataTypeID), fields.map((f) => f.dataTypeModifier)],
    );
    return new Map(fields.map((f, i) => [f.name, rows[i]!.type]));
  }

  /** Ends the transaction. */
  async conclude(closing: readonly string[]): Promise<void> {
    if (closing.length) await this.send(closing.join(';\n'));
  }
}
