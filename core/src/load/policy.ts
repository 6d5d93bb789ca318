import type { Definition, Project } from '../project/model.js';
import { ident, qualified } from '../sql/quote.js';
import { appendSteps, watermarkBound } from './append.js';
import { compileCondition, wrapped, type Names } from './compile.js';
import { datedSteps } from './dated.js';
import { eventSteps } from './events.js';
import { historySteps } from './history.js';
import { lookUpSteps } from './look-ups.js';
import { mergeSteps } from './merge.js';
import { rebuildSteps } from './rebuild.js';
import { NEWEST_HASHING, type Hashing } from './hashing.js';
import type { Place } from './place.js';
import { readsDirectly } from './direct.js';
import {
  AS_USUAL,
  checking,
  dropTemporary,
  dropTemporaryView,
  guard,
  IN_PARALLEL,
  RAW_ROWS,
  rememberRows,
  ROWS,
  run,
  together,
  type Guard,
  type LoadStep,
} from './steps.js';
import { isEndless } from './watermark.js';
import { columnWith, columnsOf, isFilled, optionOf, sortsFast, targetOf, type Target } from './target.js';
import type { EditedText } from '../sql/edits.js';

/** What the steps of a policy are made for. */
export interface PolicyContext {
  readonly project: Project;
  readonly target: Target;
  /** The table that is changed. */
  readonly own: Place;
  /** The table's final place: its key map and its remembered events stand beside that. */
  readonly home: Place;
  /** Of a table that is changed in its place: where it may be made anew instead. */
  readonly beside?: Place;
  readonly names: Names;
  /** Where a dimension stands, if placeholders may be made in it: not in one that is only read. */
  readonly writable: (dimension: Definition) => { readonly own: Place; readonly home: Place } | undefined;
  /** Of a history by state: changes correct open versions. */
  readonly corrects: boolean;
  /** Of a history from events that goes on from a copy: all keys are cut again by the contract as it is now, and these columns of events are new. */
  readonly recut?: { readonly added: readonly string[] };
  /** How the values of a table become hashes. */
  readonly hashingOf: (table: string) => Hashing;
  /** An option that holds a condition over `q` and `t`, compiled. */
  readonly condition: (option: string) => string | undefined;
}

/** Policies whose tables keep rows from load to load. */
export const STATEFUL: ReadonlySet<string> = new Set(['append', 'merge', 'history', 'dated']);

/** Whether a table is loaded in steps: it keeps rows, or its load fills columns. */
export function loadsInSteps(table: Definition): boolean {
  return STATEFUL.has(table.policy) || (table.policy === 'rebuild' && (table.contract?.columns.some(isFilled) ?? false));
}

export function policyContext(
  project: Project,
  table: Definition,
  places: Pick<PolicyContext, 'own' | 'home' | 'beside'>,
  names: Names,
  {
    writable = () => undefined,
    corrects = false,
    recut,
    hashingOf = () => NEWEST_HASHING,
  }: Partial<Pick<PolicyContext, 'writable' | 'corrects' | 'recut' | 'hashingOf'>> = {},
): PolicyContext {
  return {
    project,
    target: targetOf(project, table, hashingOf(table.fullName)),
    hashingOf,
    ...places,
    names,
    writable,
    corrects,
    ...(recut ? { recut } : {}),
    condition: (option) => {
      const text = optionOf(table, option);
      return text === undefined ? undefined : compileCondition(text, names);
    },
  };
}

/**
 * All steps of one load, from the author's compiled query to the counts.
 * @param first true where the table is empty: an append table then takes all
 */
export function policySteps(context: PolicyContext, query: EditedText, path: string, first = false): LoadStep[] {
  const { target } = context;
  const { table } = target;
  // Rows are found again by their place: nobody else may write until this load has ended. Readers go on.
  const lock = table.policy === 'rebuild' ? [] : [run('session', `lock table ${qualified(context.own)} in share row exclusive mode`)];
  const asUsual = run('session', AS_USUAL);
  const guards = inputGuards(context);
  const asked = guards.length ? [asUsual, ...guards, run('session', IN_PARALLEL)] : [];
  const policy = table.policy === 'merge' ? mergeSteps(context, guards, asked) : [...asked, ...stepsOf(table, context)];
  const steps = [...lock, ...rowsOfQuery(context, query, path, first), ...policy];
  const all = readsDirectly(context) ? [...steps, dropTemporaryView(ROWS, RAW_ROWS)] : [dropTemporary(ROWS, RAW_ROWS), ...steps, dropTemporary(ROWS)];
  return [run('session', IN_PARALLEL), ...all, asUsual];
}

function stepsOf(table: Definition, context: PolicyContext): LoadStep[] {
  switch (table.policy) {
    case 'append':
      return appendSteps(context);
    case 'history':
      return optionOf(table, 'effective_from') === undefined ? historySteps(context) : eventSteps(context);
    case 'dated':
      return datedSteps(context);
    case 'rebuild':
      return rebuildSteps(context);
    default:
      throw new Error(`${table.fullName}: a load of policy ${table.policy} keeps no state`);
  }
}

/** The query's rows in a temporary table, cast to the contract, with the keys that are looked up. */
function rowsOfQuery(context: PolicyContext, query: EditedText, path: string, first: boolean): LoadStep[] {
  const { target } = context;
  const watermark = optionOf(target.table, 'watermark');
  const effective = optionOf(target.table, 'effective_from');
  const validFrom = target.columns.find((c) => c.name === columnWith(target, 'valid from'));
  const items = [
    ...target.given.map((c) => `cast(q.${ident(c.name)} as ${c.type}) as ${ident(c.name)}`),
    ...target.extra.map((name) => (name === effective && validFrom ? `cast(q.${ident(name)} as ${validFrom.type}) as ${ident(name)}` : `q.${ident(name)}`)),
  ];
  const name = target.lookUps.length ? 'raw_rows' : 'query_rows';
  const select = `select ${items.join(',\n       ')}\nfrom (\n`;
  const direct = readsDirectly(context);
  const head = `create temp ${direct ? `view ${name}` : `table ${name} on commit drop`} as\n${select}`;
  const bound = target.table.policy === 'append' && !first ? watermarkBound(context) : undefined;
  const making = (condition: string): LoadStep & { sql: string } => {
    const rows = wrapped(head, query, `\n) as q${condition}`);
    return { step: 'run', kind: 'build', sql: rows.text, author: { path, original: rows.original } };
  };
  const bounded = bound && making(`\nwhere ${bound.condition}`);
  return [
    ...(target.table.policy === 'append' && watermark !== undefined ? watermarkGuards(context, query, watermark) : []),
    bounded
      ? {
          step: 'either',
          sql: bound.none,
          then: [making('')],
          otherwise: [bound.step, { step: 'explain', sql: `explain (format json) ${bounded.sql.slice(head.length - select.length)}` }, bounded],
        }
      : making(''),
    ...(target.lookUps.length ? lookUpSteps(context) : []),
    ...(direct ? [] : [run('session', `analyze ${ROWS}`)]),
  ];
}

/** That each row says how far it has come: without a watermark it would be added at every load, and after an endless one nothing would be. */
function watermarkGuards({ target }: PolicyContext, query: EditedText, watermark: string): Guard[] {
  const [name, type] = [`q.${ident(watermark)}`, target.columns.find((c) => c.name === watermark)?.type ?? 'text'];
  const endless = isEndless(`cast(${name} as ${type})`, type);
  const rowsWhere = (condition: string) => wrapped(`select * from (\n`, query, `\n) as q where ${condition}`).text;
  const missing = guard(
    rowsWhere(`${name} is null`),
    `rows without a watermark (${watermark})`,
    'A row whose watermark is null would be added at every load: leave it out in the query, or give it one.',
  );
  if (endless === undefined) return [missing];
  const unbounded = guard(
    rowsWhere(endless),
    `rows whose watermark (${watermark}) is infinite or not a number`,
    'No later row would ever be past it: leave it out in the query, or give it a finite one.',
  );
  return [together(rowsWhere(`${name} is null or ${endless}`), [missing, unbounded])];
}

/** A query that finds something where a row's needed columns are null, or two rows have the same unique ones. */
function faultyKeys(target: Target, unique: readonly string[], needed: readonly string[], asOf: string | undefined): string {
  const columns = columnsOf('q', unique);
  if (sortsFast(target, unique))
    return `select 'null or repeated keys' as problem from (select count(*) as n, count(distinct ${columns}) as keys from ${ROWS} as q) as counted where keys < n or ${rememberRows('n')} is null`;
  const within = unique.filter((c) => c !== asOf);
  // Most deliveries are of one date, or of a few.
  if (asOf !== undefined && sortsFast(target, within)) {
    const [date, key] = [columnsOf('q', [asOf]), columnsOf('q', within)];
    return `select ${date} from ${ROWS} as q group by ${date} having count(distinct ${key}) + case when count(*) > count(${key}) then 1 else 0 end < count(*) or ${date} is null`;
  }
  return `select ${columns} from ${ROWS} as q group by ${columns} having count(*) > 1 or ${needed.map((c) => `q.${ident(c)} is null`).join(' or ')}`;
}

/** What has to hold of the query's rows before anything is changed. */
function inputGuards({ target, own }: PolicyContext): Guard[] {
  const { table, key } = target;
  // What is made anew is held against its contract, like any rebuilt table.
  if (table.policy === 'rebuild') return [];
  const found: Guard[] = [];
  const effective = optionOf(table, 'effective_from');
  const asOf = table.policy === 'dated' ? columnWith(target, 'as of') : undefined;
  const needed = [...(table.policy === 'dated' ? [] : key), ...(effective === undefined ? [] : [effective]), ...(asOf === undefined ? [] : [asOf])];
  if (needed.length)
    found.push(
      checking(
        'keys_are_known',
        guard(
          `select * from ${ROWS} as q where ${needed.map((c) => `q.${ident(c)} is null`).join(' or ')}`,
          `the query returns rows whose ${needed.join(', ')} is null`,
          'Leave them out in the query, or give them a value.',
        ),
      ),
    );
  const unique = asOf === undefined ? (effective === undefined ? key : []) : key.length ? [...new Set([...key, asOf])] : [];
  if (unique.length) {
    const columns = columnsOf('q', unique);
    found.push(
      checking(
        'one_row_a_key',
        guard(
          `select ${columns}, count(*) as rows from ${ROWS} as q group by ${columns} having count(*) > 1`,
          `the query returns more than one row for a ${unique.join(', ')}`,
          'Decide in the query which row counts: distinct on, or a condition.',
          `select * from ${ROWS} as q\nwhere (${columns}) in (select ${columns} from ${ROWS} as q group by ${columns} having count(*) > 1)\norder by ${columns}`,
        ),
      ),
    );
  }
  // One scan answers both, where both are asked.
  if (needed.length && unique.length && needed.every((c) => unique.includes(c))) {
    found.splice(0, found.length, together(faultyKeys(target, unique, needed, asOf), [...found]));
  }
  const missing = optionOf(table, 'missing_rows') ?? 'keep';
  if (missing !== 'keep' && optionOf(table, 'empty') !== 'allow')
    found.push(
      guard(
        `select 'the query returned no row' as problem where not exists (select from ${ROWS}) and exists (select from ${qualified(own)})`,
        'the query returns no row',
        `Every row would be taken for missing (missing_rows = ${missing}). If that is right, say empty = allow.`,
      ),
    );
  return found;
}
