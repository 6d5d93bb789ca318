import type { PolicyCheckName } from '../language/policy-checks.js';
import { idents, literal, qualified } from '../sql/quote.js';
import type { Place } from '../model/place.js';

/**
 * What a load that keeps state is made of, in the order in which it runs. Guards stop the load before
 * anything of it shows; counts say what it did.
 */
export type LoadStep =
  | ({ readonly step: 'run' } & LoadStatement)
  /** Its rows are at fault: one is enough to stop the load. */
  | {
      readonly step: 'guard';
      readonly sql: string;
      readonly message: string;
      readonly hint?: string;
      /** The check of the policy that it is, if it is one that people see. */
      readonly check?: PolicyCheckName;
      /** Shows more of what is wrong than `sql`, which is the cheapest question. */
      readonly rows?: string;
      /** Several guards asked in one scan: where it finds something, these say what, in order. */
      readonly asks?: readonly Guard[];
    }
  /** A statement that fails where one of the guards would find rows, and takes less time with what it makes than asking them: they are asked where it fails. */
  | { readonly step: 'prove'; readonly sql: string; readonly guards: readonly Guard[] }
  /** One row of whole numbers, each under its name; `rows` shows some rows of each, where that costs little. */
  | { readonly step: 'count'; readonly sql: string; readonly rows: Readonly<Partial<Record<string, string>>> }
  /** The plan of the bounded query of an append load: whether the bound reaches its input. */
  | { readonly step: 'explain'; readonly sql: string }
  /** Steps that are needed only where a query says `needed`. */
  | { readonly step: 'when'; readonly sql: string; readonly steps: readonly LoadStep[] }
  /** One row, `holds`: one way or the other. */
  | {
      readonly step: 'either';
      readonly sql: string;
      readonly then: readonly LoadStep[];
      readonly otherwise: readonly LoadStep[];
    }
  /** One row, `rewrite` and `note`: whether the table is made anew beside it, and why. */
  | {
      readonly step: 'choose';
      readonly sql: string;
      readonly inPlace: readonly LoadStep[];
      readonly rewrite: readonly LoadStep[];
    };

export type Guard = Extract<LoadStep, { readonly step: 'guard' }>;

/** Workers hand rows on at nearly no cost: without this the planner joins millions of rows in one process. Measured: half the time. */
export const IN_PARALLEL = 'set local parallel_tuple_cost = 0';

/** For questions that end in one row or a few: workers would hand all rows on to one process that counts them. Measured: a third of the time. */
export const AS_USUAL = 'set local parallel_tuple_cost to default';

/** Rows at fault that a guard shows. */
export const GUARD_ROWS = 100;

/** The query's rows, with the keys that were looked up. */
export const ROWS = 'pg_temp.query_rows';
/** The query's rows before their keys are looked up. */
export const RAW_ROWS = 'pg_temp.raw_rows';
/** What the load will do, one row a row of the target, as a table: where rows are changed in their place. */
export const CHANGES = 'pg_temp.changes';
/** The same as a view. */
export const FOUND = 'pg_temp.found_changes';
/** All versions of touched keys as they should be. */
export const VERSIONS = 'pg_temp.versions';

export const run = (kind: LoadStatement['kind'], sql: string): LoadStep => ({ step: 'run', kind, sql });

export const guard = (sql: string, message: string, hint?: string, rows?: string): Guard => ({
  step: 'guard',
  sql: `${sql}\nlimit ${GUARD_ROWS}`,
  message,
  ...(hint === undefined ? {} : { hint }),
  ...(rows === undefined ? {} : { rows: `${rows}\nlimit ${GUARD_ROWS}` }),
});

/** The guard as a check that comes with the policy. */
export const checking = (check: PolicyCheckName, step: Guard): Guard => ({ ...step, check });

/** Guards in one question, which finds something where any of them does. */
export const together = (sql: string, asks: readonly Guard[]): Guard => ({
  ...guard(sql, 'the query’s rows cannot be loaded'),
  asks,
});

/**
 * `select count(*) filter (where …) as name, …`; conditions by name.
 * @param more other whole numbers by name
 */
export function counts(
  from: string,
  conditions: Readonly<Record<string, string>>,
  more: Readonly<Record<string, string>> = {},
): LoadStep {
  const counted = Object.entries(conditions).map(
    ([name, condition]) => [name, `count(*) filter (where ${condition})`] as const,
  );
  const items = [...counted, ...Object.entries(more)].map(([name, sql]) => `${sql} as ${idents([name])}`);
  const rows = Object.entries(conditions).map(
    ([name, condition]) => [name, `select * from ${from} where ${condition} limit ${GUARD_ROWS / 2}`] as const,
  );
  return { step: 'count', sql: `select ${items.join(',\n       ')}\nfrom ${from}`, rows: Object.fromEntries(rows) };
}

/** Remembers for this transaction how many rows the query has, where a guard has counted them. @param n their number */
export const rememberRows = (n: string): string => `set_config('load.rows', ${n}::text, true)`;

/** Whether a guard of the load has counted the query's rows and remembers how many they are. */
export type RowsKnown = 'remembered' | 'to be counted';

/** How many rows the query has. @param known whether a guard of this load has remembered it; a script asks its guards otherwise, and counts here */
export const rowsOfTheQuery = (known: RowsKnown): string =>
  known === 'remembered'
    ? `coalesce(cast(nullif(current_setting('load.rows', true), '') as bigint), (select count(*) from ${ROWS}))`
    : `(select count(*) from ${ROWS})`;

/** How many rows this transaction has written into a table. The database counts them as it goes; where it has been told not to, those that are there are counted. */
export const rowsWritten = (place: Place): string =>
  `case when cast(current_setting('track_counts') as boolean) then pg_stat_get_xact_tuples_inserted(${literal(qualified(place))}::regclass) else (select count(*) from ${qualified(place)}) end`;

/** Rows of the query that say nothing new. @param said a condition over the rows of `changes` that the query made; see `rowsOfTheQuery` */
export const unchangedRows = (said: string, known: RowsKnown = 'to be counted'): Readonly<Record<string, string>> => ({
  unchanged: `${rowsOfTheQuery(known)} - count(*) filter (where ${said})`,
});

/** Statistics of what the changes are joined and distinguished by; those of the other columns would take as long as the load's own statements. */
export const analyzeChanges = (columns: readonly string[], changes = CHANGES): LoadStep =>
  run('session', `analyze ${changes} (${idents(columns)})`);

/** What changes, in the order in which the rows are in the table. @param condition over the rows of `changes` */
export const inOrderOfPlace = (condition: string): string =>
  `(select * from ${CHANGES} where ${condition} order by row_id$)`;

const JOINS_OVER_ALL = ['enable_hashjoin', 'enable_mergejoin'];

/**
 * Has statements fetch rows by their place, which the planner takes for dear: it does not know that they come in
 * order. Measured: three quarters of the time of a join that reads the whole table, where a tenth of it changes.
 */
export const byPlace = (steps: readonly LoadStep[]): LoadStep[] => [
  ...JOINS_OVER_ALL.map((name) => run('session', `set local ${name} = off`)),
  ...steps,
  ...JOINS_OVER_ALL.map((name) => run('session', `set local ${name} to default`)),
];

export const dropTemporary = (...tables: readonly string[]): LoadStep =>
  run('session', `drop table if exists ${tables.join(', ')}`);
export const dropTemporaryView = (...views: readonly string[]): LoadStep =>
  run('session', `drop view if exists ${views.join(', ')}`);

export type StatementKind =
  'session' | 'before' | 'build' | 'check' | 'constraint' | 'index' | 'comment' | 'grant' | 'analyze' | 'swap';

/** One statement of a load, in the order in which it runs. */
export interface LoadStatement {
  readonly kind: StatementKind;
  readonly sql: string;
  /** Where an offset of `sql` is in the author's file, if it comes from there. */
  readonly author?: { readonly path: string; readonly original: (offset: number) => number };
}
