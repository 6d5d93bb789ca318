import {
  boundNote,
  keptFromOld,
  planReplaceInPlace,
  planSwap,
  qualified,
  rowsStatement,
  SESSION_SETTINGS,
  verdictOf,
  type Dependent,
  type Guard,
  type LoadPlan,
  type LoadStep,
  type LoadStatement,
  type OldRelation,
  type Place,
  type SwapItem,
} from '@ouvrage/core';
import type pg from 'pg';
import { from as copyFrom } from 'pg-copy-streams';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { FaultRows, RanStatement } from '../run/run.entities.js';
import { policyOutcome, shownRows, type CheckOutcome } from './check-outcome.js';
import { planCatalog, questions } from './catalog-questions.js';
import { LoadStopped, StatementFailed, SwapBlocked } from './load-errors.js';
import { isDatabaseError } from './sql-error.js';

export const FAULT_ROWS = 100;
/** A key is null, or there twice. */
const FAULTY_KEYS = ['23502', '23505'];
const SWAP_LOCK_TIMEOUT = '3s';
const SWAP_ATTEMPTS = 20;
/** Swaps that drop and make again what reads their tables wait for each other. */
const IN_TURN = `select pg_advisory_xact_lock(hashtext('ouvrage swap'))`;
/** What is to be dropped has come to be read since the catalog was asked. */
const READ_BY_OTHERS = '2BP01';

/** From this many rows on, people want to know how long each index took. */
const LARGE = 100_000;

/**
 * Runs the statements of loads on one connection, in a transaction that the caller begins and ends,
 * and keeps what ran.
 */
export class Loader {
  readonly ran: RanStatement[] = [];

  constructor(private readonly client: pg.PoolClient) {}

  /** What is sent before the next statement, in the same message. */
  private opening = '';

  /** Begins a transaction with the settings of loads; it is sent with the first statement. */
  begin(): void {
    this.opening = ['begin', ...SESSION_SETTINGS, ''].join(';\n');
  }

  /**
   * @returns what each statement of a text gave
   * @throws the database's error, its position counted from the text's beginning
   */
  private async send(text: string): Promise<pg.QueryResult[]> {
    const opening = this.opening;
    this.opening = '';
    try {
      return [await this.client.query(opening + text)].flat();
    } catch (error) {
      if (isDatabaseError(error) && error.position !== undefined) Object.assign(error, { position: String(Number(error.position) - [...opening].length) });
      throw error;
    }
  }

  /** @param unseen statements that follow in the same message and are not kept for people */
  private async sendKept(statement: LoadStatement, unseen: readonly string[] = []): Promise<pg.QueryResult[]> {
    const started = performance.now();
    const keep = (rows: number | null) =>
      this.ran.push({ kind: statement.kind, sql: statement.sql, milliseconds: Math.round(performance.now() - started), rows });
    try {
      const results = await this.send([statement.sql, ...unseen].join(';\n'));
      keep(results.at(-1)?.rowCount ?? null);
      return results;
    } catch (error) {
      keep(null);
      throw new StatementFailed(error, statement);
    }
  }

  /** Settings of the session, which cannot fail: they go with the next statement. */
  private settings(statements: readonly string[]): void {
    this.ran.push({ kind: 'session', sql: statements.join(';\n'), milliseconds: null, rows: null });
    this.opening += statements.map((s) => `${s};\n`).join('');
  }

  async run(statement: LoadStatement): Promise<pg.QueryResult> {
    return (await this.sendKept(statement)).at(-1)!;
  }

  /** Runs a statement whose outcome nobody looks at: a setting goes with the next one. */
  private async runInTurn(statement: LoadStatement): Promise<void> {
    if (statement.kind === 'session' && /^set local /i.test(statement.sql)) this.settings([statement.sql]);
    else await this.run(statement);
  }

  /** Statements of which none can be at fault by itself, in one message: on small tables, messages take most of the time. */
  private together(kind: LoadStatement['kind'], statements: readonly string[], unseen: readonly string[] = []): Promise<pg.QueryResult[]> {
    return statements.length ? this.sendKept({ kind, sql: statements.join(';\n') }, unseen) : this.send(unseen.join(';\n'));
  }

  private plain(kind: LoadStatement['kind'], sql: string): Promise<pg.QueryResult> {
    return this.run({ kind, sql });
  }

  /**
   * Makes and fills the table, and runs its checks.
   * @returns the plan as it stands, the table having been changed in its place or made beside; rows of the table; the checks' outcomes
   */
  async makeBeside(plan: LoadPlan, csv: string | undefined): Promise<{ plan: LoadPlan; rows: string | null; checks: CheckOutcome[] }> {
    this.settings(plan.session.map((s) => s.sql));
    for (const statement of plan.build) await this.runInTurn(statement);
    if (plan.copySql !== undefined) await this.copy(plan.copySql, csv ?? '');
    for (const step of plan.steps ?? []) await this.step(step);
    const standing = this.writtenAnew && plan.anew ? { ...plan, ...plan.anew, swaps: true } : plan;
    const { rows, checks } = await this.check(standing);
    this.total = Number(rows ?? 0);
    if (!plan.swaps) this.countUnchanged(this.total);
    const guarded = [...this.guarded].map(([name, sql]) => policyOutcome(plan.table, name, sql, null));
    return { plan: standing, rows, checks: [...guarded, ...checks] };
  }

  /** Rows of the table that was made. */
  private total = 0;

  /** Of a table that was there before: its rows that this load did not touch. */
  private countUnchanged(total: number): void {
    const { inserted, updated = 0, replaced = 0, flagged = 0 } = this.counts;
    if (inserted !== undefined) this.counts['unchanged'] = total - inserted - updated - replaced - flagged;
  }

  /** Checks of the policy that held, with the statement that found no row. */
  private readonly guarded = new Map<string, string>();
  private writtenAnew = false;
  /** Why the load took the shape that it took. */
  note: string | undefined;

  /** What the steps of the load counted. */
  readonly counts: Record<string, number> = {};
  /** Some rows of each kind that the load counted. */
  readonly kinds: Record<string, FaultRows> = {};

  private async step(step: LoadStep): Promise<void> {
    switch (step.step) {
      case 'run':
        await this.runInTurn(step);
        break;
      case 'guard': {
        const { rowCount } = await this.plain('check', step.sql);
        if (rowCount) {
          for (const asked of step.asks ?? []) await this.step(asked);
          throw new LoadStopped(
            step.message,
            step.hint,
            shownRows(await this.faultRows(step.rows ?? step.sql)),
            step.check && { name: step.check, sql: step.sql },
          );
        }
        this.held(step);
        break;
      }
      case 'prove':
        await this.prove(step);
        break;
      case 'explain':
        this.note = boundNote(((await this.plain('check', step.sql)).rows[0] as { 'QUERY PLAN': unknown })['QUERY PLAN']);
        break;
      case 'when': {
        const { needed } = (await this.plain('check', step.sql)).rows[0] as { needed: boolean };
        for (const inner of needed ? step.steps : []) await this.step(inner);
        break;
      }
      case 'choose': {
        const { rewrite, note } = (await this.plain('check', step.sql)).rows[0] as { rewrite: boolean; note: string };
        this.note = note;
        this.writtenAnew = rewrite;
        for (const inner of rewrite ? step.rewrite : step.inPlace) await this.step(inner);
        break;
      }
      case 'count': {
        const { rows } = await this.plain('check', step.sql);
        for (const [name, n] of Object.entries(rows[0] as Record<string, string>)) {
          this.counts[name] = (this.counts[name] ?? 0) + Number(n);
          const rowsOf = step.rows[name];
          if (n !== '0' && rowsOf !== undefined) this.kinds[name] = shownRows(await this.faultRows(rowsOf));
        }
        break;
      }
    }
  }

  /** A guard has found nothing. */
  private held({ sql, check, asks = [] }: Guard): void {
    for (const name of [check, ...asks.map((a) => a.check)]) if (name !== undefined) this.guarded.set(name, sql);
  }

  /** Where the statement fails on keys, the guards tell which rows have them. */
  private async prove({ sql, guards }: Extract<LoadStep, { readonly step: 'prove' }>): Promise<void> {
    this.opening += 'savepoint before_proof;\n';
    try {
      await this.plain('constraint', sql);
    } catch (error) {
      const cause = error instanceof StatementFailed ? error.cause : error;
      if (!isDatabaseError(cause) || !FAULTY_KEYS.includes(cause.code ?? '')) throw error;
      await this.client.query('rollback to savepoint before_proof');
      for (const guard of guards) await this.step(guard);
      throw error;
    }
    for (const guard of guards) this.held(guard);
  }

  /** Streams text into COPY. */
  private async copy(sql: string, text: string): Promise<void> {
    const started = performance.now();
    const stream = this.client.query(copyFrom(sql));
    try {
      await pipeline(Readable.from([text]), stream);
      this.ran.push({ kind: 'build', sql, milliseconds: Math.round(performance.now() - started), rows: stream.rowCount });
    } catch (error) {
      throw new StatementFailed(error, { kind: 'build', sql });
    }
  }

  private async check(plan: LoadPlan): Promise<{ rows: string | null; checks: CheckOutcome[] }> {
    if (plan.countSql === undefined) {
      const { rows } = await this.plain('check', `select count(*) as total from ${qualified(plan.beside)}`);
      return { rows: String((rows[0] as { total: string }).total), checks: [] };
    }
    const { rows } = await this.plain('check', plan.countSql);
    const counts = rows[0] as Record<string, string>;
    const total = counts['total']!;
    const placeOf = this.placeOfChecks(plan);
    const checks: CheckOutcome[] = [];
    for (const [i, check] of plan.checks.entries()) {
      const atFault = counts[`c${i}`]!;
      const rowsAtFault = atFault === '0' ? null : await this.faultRows(rowsStatement(check, placeOf, FAULT_ROWS));
      // What is kept for people reads the table in its place: the one beside is gone by then.
      const sql = rowsStatement(check, (table) => (table === plan.table ? plan.target : placeOf(table)), FAULT_ROWS);
      checks.push({ id: check.id, table: check.table, verdict: verdictOf(check, Number(atFault), Number(total)), atFault, total, sql, rows: rowsAtFault });
    }
    return { rows: total, checks };
  }

  /** The places that the count statement was made with. */
  private placeOfChecks(plan: LoadPlan): (table: string) => Place {
    return (table) => (table === plan.table ? plan.beside : this.inputs!(table));
  }

  /** Where other tables are read; set by who plans. */
  inputs?: (table: string) => Place;

  async faultRows(sql: string): Promise<FaultRows> {
    const result = await this.client.query<(string | null)[]>({ text: sql, rowMode: 'array', types: { getTypeParser: () => (v: unknown) => v } as never });
    return { columns: result.fields.map((f) => f.name), rows: result.rows };
  }

  /** Constraints, indexes, comments and grants beside, and what was made by hand on the old table. */
  async finishBeside(plan: LoadPlan): Promise<void> {
    for (const statement of plan.finish) await this.run(statement);
    await this.keepOld(plan, await this.oldRelations([plan.target, plan.beside]));
  }

  /** What was made by hand on the old table is made on the one beside. */
  private async keepOld(plan: LoadPlan, found: readonly OldRelation[]): Promise<void> {
    const [old, fresh] = [plan.target, plan.beside].map((place) => found.find((r) => r.schema === place.schema && r.name === place.name));
    if (!old?.ours || !fresh) return;
    const kept = keptFromOld(plan, old, {
      columns: fresh.columns.map((c) => c.name),
      indexes: fresh.indexes.map((i) => i.name),
      commented: fresh.column_comments.map((c) => c.column),
      comment: fresh.comment !== null,
    });
    for (const sql of kept) await this.plain('index', sql);
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

  async oldRelations(places: readonly Place[]): Promise<OldRelation[]> {
    if (places.length === 0) return [];
    await planCatalog(this.client);
    return (await this.send(questions(['old_relations'], places).join(';\n'))).at(-2)!.rows as OldRelation[];
  }

  /** True when the view beside is the view in place to the letter, comments included. */
  async sameView(plan: LoadPlan): Promise<boolean> {
    const { rows } = await this.client.query<{ same: boolean }>(
      `select pg_get_viewdef(a.oid) = pg_get_viewdef(b.oid)
         and obj_description(a.oid, 'pg_class') is not distinct from obj_description(b.oid, 'pg_class')
         and (select array_agg((objsubid, description) order by objsubid) from pg_description where objoid = a.oid and classoid = 'pg_class'::regclass)
           is not distinct from (select array_agg((objsubid, description) order by objsubid) from pg_description where objoid = b.oid and classoid = 'pg_class'::regclass) as same
       from pg_class a, pg_class b where a.oid = to_regclass($1) and b.oid = to_regclass($2) and a.relkind = 'v' and b.relkind = 'v'`,
      [qualified(plan.target), qualified(plan.beside)],
    );
    return rows[0]?.same ?? false;
  }

  async dropBeside(plan: LoadPlan): Promise<void> {
    await this.plain('swap', `drop ${plan.relation} ${qualified(plan.beside)}`);
  }

  /**
   * Moves what was made beside into place. One swap at a time, but for a single table that no view or function
   * reads; a lock that cannot be had in time is given back and asked for again, so that readers never queue
   * behind a waiting swap for long.
   * @param items in dependency order
   * @param dropped places of tables that go without a successor
   */
  async swap(items: readonly SwapItem[], dropped: readonly Place[] = []): Promise<void> {
    await this.swapFinished(items, dropped, []);
  }

  /**
   * Finishes a table beside and moves it into place, as `finishBeside` and `swap` do; a small one in two messages.
   * @param closing statements that end the transaction once all is in place
   */
  async finishAndSwap(plan: LoadPlan, closing: readonly string[]): Promise<void> {
    const apart = this.total >= LARGE || plan.finish.some((s) => s.author);
    if (apart) await this.finishBeside(plan);
    await this.swapFinished([plan], [], closing, apart ? undefined : plan);
  }

  /** @param finishing a table that is to be finished in the message that asks for the lock */
  private async swapFinished(items: readonly SwapItem[], dropped: readonly Place[], closing: readonly string[], finishing?: LoadPlan): Promise<void> {
    await planCatalog(this.client);
    const finish = finishing?.finish.map((s) => s.sql) ?? [];
    for (let attempt = 1; ; attempt++) {
      try {
        return await this.swapOnce(items, dropped, closing, attempt === 1 ? finish : [], finishing, attempt > 1 || items.length + dropped.length > 1);
      } catch (error) {
        const cause = error instanceof StatementFailed ? error.cause : error;
        const busy = isDatabaseError(cause) && ['55P03', '40P01', ...(attempt === 1 ? [READ_BY_OTHERS] : [])].includes(cause.code ?? '');
        if (!busy || attempt >= SWAP_ATTEMPTS) throw error;
        await this.client.query('rollback to savepoint before_swap').catch(() => {
          throw error;
        });
        await new Promise((resolve) => setTimeout(resolve, 50 * attempt));
      }
    }
  }

  private async swapOnce(
    items: readonly SwapItem[],
    dropped: readonly Place[],
    closing: readonly string[],
    finish: readonly string[],
    finishing: LoadPlan | undefined,
    inTurn: boolean,
  ): Promise<void> {
    const places = [...items.map((i) => i.target), ...dropped];
    const opening = ['savepoint before_swap', `set local lock_timeout = '${SWAP_LOCK_TIMEOUT}'`, ...(inTurn ? [IN_TURN] : [])];
    const asks = questions(['old_relations', 'dependents'], finishing ? [...places, finishing.beside] : places);
    const answersTo = (results: readonly pg.QueryResult[]) => results.slice(-3, -1).map((r) => r.rows) as [OldRelation[], Dependent[]];
    let [old, dependents] = answersTo(await this.together('constraint', finish, [...opening, ...asks]));
    if (dependents.length && !inTurn) [old, dependents] = answersTo(await this.send([IN_TURN, ...asks].join(';\n')));
    if (finishing) await this.keepOld(finishing, old);
    const plan = planSwap(items, old, dependents, dropped);
    if (plan.blockedBy) {
      await this.replaceInPlace(items, old, plan.blockedBy);
      await this.conclude(closing);
    } else await this.together('swap', [...plan.statements, 'set local lock_timeout = 0'], closing);
  }

  /** Ends the transaction. */
  async conclude(closing: readonly string[]): Promise<void> {
    if (closing.length) await this.send(closing.join(';\n'));
  }

  /** Where a dependent belongs to someone else, the rows are replaced and the table stays. */
  private async replaceInPlace(items: readonly SwapItem[], old: readonly OldRelation[], blockers: readonly Dependent[]): Promise<void> {
    const names = blockers.map((b) => `${b.kind} ${b.schema}.${b.name} (owner ${b.owner})`).join(', ');
    for (const item of items) {
      const before = old.find((o) => o.schema === item.target.schema && o.name === item.target.name);
      const [fresh] = await this.oldRelations([item.beside]);
      const shape = (r: OldRelation | undefined) => JSON.stringify(r?.columns);
      if (items.length > 1 || item.relation !== 'table' || before?.relkind !== 'r' || shape(before) !== shape(fresh)) {
        throw new SwapBlocked(
          `${names} reads ${item.target.schema}.${item.target.name} and cannot be made again by Ouvrage. Drop it, or give its ownership to the production builder, and run again.`,
        );
      }
      for (const sql of planReplaceInPlace(item)) await this.plain('swap', sql);
    }
  }
}
