import type { LoadPolicy } from '../model/load-policy.js';
import { errorAt, type Diagnostic } from '../model/diagnostic.js';
import {
  badOption,
  neitherLengthNorNumber,
  notAFixedLength,
  notALength,
  notAShare,
  notAWholeNumber,
  notOneOf,
  unknownOption,
} from './messages.js';
import type { IndexedFile, OptionValue } from '../model/project.js';
import { secondsOf } from '../schedule/length.js';
import { LOAD_POLICIES } from './policies.js';
import { COLUMN_ROLES } from './roles.js';

/** What a value may be. */
export type ValueRule =
  | { readonly kind: 'choice'; readonly choices: readonly string[] }
  /** A column, or several with commas between; `among` says whose. */
  | { readonly kind: 'columns'; readonly among: 'contract' | 'query' }
  /** A condition over `q`, the query's row, and `t`, the table's. */
  | { readonly kind: 'condition' }
  | { readonly kind: 'text' | 'count' | 'share' | 'interval' | 'length' | 'interval or number' | 'boolean' };

/** An option of a contract: the form, completion, diagnostics and hover all read it here. */
export interface OptionRule {
  readonly help: string;
  readonly value: ValueRule;
  /** Policies that give it a meaning; all, where none are named. */
  readonly policies?: readonly LoadPolicy[];
  /** Shown in the form only when it is set or asked for. */
  readonly rare?: true;
}

type Rules<Name extends string> = Readonly<Record<Name, OptionRule>>;
const rules = <Name extends string>(of: Rules<Name>): Rules<Name> => of;

const TEXT: ValueRule = { kind: 'text' };
const CONDITION: ValueRule = { kind: 'condition' };
const choice = (...choices: readonly string[]): ValueRule => ({ kind: 'choice', choices });
const columns = (among: 'contract' | 'query'): ValueRule => ({ kind: 'columns', among });

/** Storage parameters of PostgreSQL pass through to the table. */
export const STORAGE_PARAMETERS = [
  'fillfactor',
  'parallel_workers',
  'autovacuum_enabled',
  'toast_tuple_target',
  'autovacuum_vacuum_scale_factor',
  'autovacuum_analyze_scale_factor',
] as const;

const storageRules = Object.fromEntries(
  STORAGE_PARAMETERS.map((name) => [
    name,
    { help: `PostgreSQL’s storage parameter ${name}.`, value: TEXT, rare: true },
  ]),
) as unknown as Rules<(typeof STORAGE_PARAMETERS)[number]>;

/** How bad it is that something does not hold, the least first. */
export const SEVERITIES = ['low', 'medium', 'high', 'critical'] as const;
export type Severity = (typeof SEVERITIES)[number];

/** Of a check, or of all checks and loads of a table. */
const INCIDENT_OPTIONS = {
  severity: {
    help: 'How bad it is when it fails in production; medium, where it is not said.',
    value: choice(...SEVERITIES),
  },
  open_incident: { help: 'Whether an incident is opened when it fails in production.', value: { kind: 'boolean' } },
} as const satisfies Readonly<Record<string, OptionRule>>;

/** `with (…)` of a definition. */
export const TABLE_OPTIONS = rules({
  load: { help: 'How the table is brought up to date.', value: choice(...LOAD_POLICIES) },
  business_key: {
    help: 'The columns that identify a row in the business, with commas between.',
    value: columns('contract'),
  },
  watermark: {
    help: 'The column that only grows: rows past its greatest loaded value are added.',
    value: columns('contract'),
    policies: ['append'],
  },
  look_back: {
    help: 'How far before the watermark late rows are still taken, such as 3 days; needs a business key.',
    value: { kind: 'interval or number' },
    policies: ['append'],
  },
  set_columns: {
    help: 'The columns that a merge updates; all, where none are named.',
    value: columns('contract'),
    policies: ['merge'],
  },
  update_when: {
    help: 'Which rows are updated: a condition over q, the query’s row, and t, the table’s.',
    value: CONDITION,
    policies: ['merge'],
  },
  insert_when: { help: 'Which new rows are inserted: a condition over q.', value: CONDITION, policies: ['merge'] },
  delete_when: {
    help: 'Which rows are deleted: a condition over q and t, tested first.',
    value: CONDITION,
    policies: ['merge'],
  },
  missing_rows: {
    help: 'What happens to rows that the query no longer returns.',
    value: choice('keep', 'delete', 'flag', 'close'),
    policies: ['merge', 'history'],
  },
  effective_from: {
    help: 'The query’s column that says from when a row holds: the query returns events.',
    value: columns('query'),
    policies: ['history'],
  },
  order_within: {
    help: 'The query’s column that orders events at one instant; the greatest wins.',
    value: columns('query'),
    policies: ['history'],
  },
  overwrite_scope: {
    help: 'Which versions an overwritten column changes in.',
    value: choice('all', 'current'),
    policies: ['history'],
  },
  keep_copies: { help: 'How many dates are kept.', value: { kind: 'count' }, policies: ['dated'] },
  key_method: {
    help: 'Whether keys are numbered in sequence or hashed from the business key.',
    value: choice('sequence', 'hash'),
    policies: ['rebuild', 'append', 'merge', 'history', 'dated'],
  },
  empty: {
    help: 'Whether a query without rows stops the load, where missing rows would be removed.',
    value: choice('stop', 'allow'),
    policies: ['merge', 'history'],
  },
  largest_loss: {
    help: 'Stops a load that would remove more rows: a count, or a share such as 20%.',
    value: { kind: 'share' },
    policies: ['merge', 'history'],
  },
  shape: {
    help: 'Whether changes are written in place or the table is rewritten; by their share, where it is not said.',
    value: choice('in_place', 'rewrite'),
    policies: ['merge', 'history'],
  },
  drift: {
    help: 'What happens to columns of the query that the contract lacks.',
    value: choice('add', 'stop', 'ignore'),
  },
  owner: { help: 'The person or team to ask.', value: TEXT },
  tags: { help: 'Words to find the table by, with commas between.', value: TEXT },
  advisory: { help: 'Constraints whose failure stops nothing, by name, with commas between.', value: TEXT },
  tolerate: { help: 'Failing rows that a constraint may have: its name and a count or share.', value: TEXT },
  before: { help: 'Statements that run in the load’s transaction before the query.', value: TEXT },
  ...INCIDENT_OPTIONS,
  stop_on: {
    help: 'Stops a load in production that would leave an unusual number of rows, as its watch has learned them.',
    value: choice('rows'),
  },
  was: { help: 'The table’s former name, layer.table: a release renames it.', value: TEXT, rare: true },
  for_each: { help: 'A reference table: one table is made per row of it.', value: TEXT, rare: true },
  each_schema: { help: 'The schema of each of those tables, such as mart_{terminal_code}.', value: TEXT, rare: true },
  ...storageRules,
});
export type TableOption = keyof typeof TABLE_OPTIONS;

/** `options (…)` of a definition's column. */
const SENSITIVE = {
  help: 'What is sensitive about its values, such as personal: viewers see neither it nor what is made of it; no frees it.',
  value: TEXT,
};

export const COLUMN_OPTIONS = rules({
  role: { help: 'What the column is for; the load fills some roles itself.', value: choice(...COLUMN_ROLES) },
  on_change: {
    help: 'What a changed value does: makes a version, overwrites, is ignored (first value kept), or holds the value before.',
    value: choice('version', 'overwrite', 'keep', 'previous'),
    policies: ['history'],
  },
  previous_of: {
    help: 'The column whose previous value this one holds.',
    value: columns('contract'),
    policies: ['history'],
  },
  looked_up_by: {
    help: 'The query’s columns that find the key in the dimension, in the order of its business key.',
    value: columns('query'),
  },
  at: { help: 'The query’s column that picks the version valid at that time.', value: columns('query') },
  before_first: { help: 'Where a row older than the first version points to.', value: choice('first', 'unknown') },
  missing: { help: 'What a key that the dimension does not have becomes.', value: choice('unknown', 'infer', 'stop') },
  unknown: { help: 'The column’s value in the unknown member.', value: TEXT },
  was: { help: 'The column’s former name: a release renames it.', value: TEXT, rare: true },
  sensitive: SENSITIVE,
});
export type ColumnOption = keyof typeof COLUMN_OPTIONS;

/** `with (…)` of a check. */
export const CHECK_OPTIONS = rules({
  advisory: { help: 'Whether its failure stops nothing.', value: { kind: 'boolean' } },
  tolerate: { help: 'How many rows it may find: a count or a share.', value: { kind: 'share' } },
  about: { help: 'The table that it is about: nothing that reads it is loaded where the check fails.', value: TEXT },
  ...INCIDENT_OPTIONS,
});

/** `with (…)` of a job. */
export const JOB_OPTIONS = rules({
  at: { help: 'When it starts: minute, hour, day of the month, month, weekday, such as 30 4 * * 1-5.', value: TEXT },
  time_zone: { help: 'The zone of its times, such as Europe/Paris; UTC, where it is not said.', value: TEXT },
  after: { help: 'Jobs after which it starts, each time one of them ends well, with commas between.', value: TEXT },
  on_delivery: { help: 'Tables of files after whose delivery it starts, with commas between.', value: TEXT },
  needs: {
    help: 'What is loaded first of what its tables read: all, what is stale, or none.',
    value: choice('all', 'stale', 'none'),
  },
  only_stale: {
    help: 'Whether its own tables, too, are loaded only where they are stale.',
    value: { kind: 'boolean' },
  },
  parallel: { help: 'How many of its tables load at a time.', value: { kind: 'count' } },
  time_limit: { help: 'After how long it is stopped, such as 1 hour.', value: { kind: 'length' } },
  retries: {
    help: 'How often it is tried again after what passes by itself: a lost connection, a deadlock, a lock not had.',
    value: { kind: 'count' },
  },
  retry_after: { help: 'How long it waits before it is tried again, such as 5 minutes.', value: { kind: 'length' } },
  when_running: {
    help: 'What becomes of a start by the clock while it is still running.',
    value: choice('skip', 'wait'),
  },
  when_missed: {
    help: 'What becomes of starts by the clock while the server was down: one for all of them, or none.',
    value: choice('once', 'skip'),
  },
});
export type JobOption = keyof typeof JOB_OPTIONS;

/** `options (…)` of a source table. */
export const SOURCE_TABLE_OPTIONS = rules({
  schema_name: { help: 'The schema in the source system.', value: TEXT },
  table_name: { help: 'The table’s name in the source system.', value: TEXT },
  intake: {
    help: 'Whether all rows are brought in, or those past the watermark.',
    value: choice('full', 'incremental'),
  },
  watermark: {
    help: 'The column that only grows: rows past its greatest value are brought in.',
    value: columns('contract'),
  },
  look_back: { help: 'How far before the watermark rows are brought in again.', value: { kind: 'interval or number' } },
  late_after: { help: 'The age after which the table counts as late.', value: { kind: 'interval' } },
  only: { help: 'A condition: only rows that meet it are brought in.', value: CONDITION },
  left_out: { help: 'Columns of the source system that are not wanted, with commas between.', value: TEXT },
  limit: { help: 'The most rows that are brought in.', value: { kind: 'count' } },
  drift: { help: 'What happens to columns that the declaration lacks.', value: choice('add', 'stop', 'ignore') },
  pattern: { help: 'The names of its files, such as rates_{as_of:date}.csv.', value: TEXT },
  format: { help: 'The format of its files.', value: choice('csv', 'jsonl', 'parquet') },
  bad_rows: { help: 'Whether a bad row stops the file or is set aside.', value: choice('stop', 'set aside') },
  delimiter: { help: 'The character between fields.', value: TEXT },
  quote: { help: 'The character that fields are quoted with.', value: TEXT },
  header: { help: 'Whether the first line names the columns.', value: { kind: 'boolean' } },
  encoding: { help: 'The encoding of its files.', value: TEXT },
  null: { help: 'The text that means null.', value: TEXT },
  decimal: { help: 'The decimal sign.', value: choice('.', ',') },
  then_run: { help: 'Tables to run when a file has arrived, with commas between.', value: TEXT },
});

/** `options (…)` of a source table's column. */
export const SOURCE_COLUMN_OPTIONS = rules({
  column_name: { help: 'The column’s name in the source system.', value: TEXT },
  sensitive: SENSITIVE,
});

/** Whether a policy gives an option a meaning. */
export const optionFits = ({ policies }: OptionRule, policy: LoadPolicy): boolean => policies?.includes(policy) ?? true;

/** Options of a merge that hold conditions over the query's row `q` and the table's `t`. */
export const CONDITIONS = ['update_when', 'insert_when', 'delete_when'] as const satisfies readonly TableOption[];
export type ConditionOption = (typeof CONDITIONS)[number];

const BOOLEANS: readonly string[] = ['true', 'false', 'on', 'off'];
const INTERVAL =
  /^\s*(([+-]?\d+(\.\d+)?\s*(years?|yrs?|y|months?|mons?|weeks?|w|days?|d|hours?|hrs?|h|minutes?|mins?|m|seconds?|secs?|s)\b\s*)+|\d+:\d\d(:\d\d(\.\d+)?)?|P[\dYMWDTHS.]+)\s*$/i;

/** The values that an option can have; undefined where they cannot be listed. */
export function choicesOf({ value }: OptionRule): readonly string[] | undefined {
  if (value.kind === 'choice') return value.choices;
  return value.kind === 'boolean' ? BOOLEANS : undefined;
}

/** Why an option cannot have a value; undefined where it can. */
function valueProblemOf(rule: OptionRule, value: string): string | undefined {
  const choices = choicesOf(rule);
  if (choices && !choices.includes(value)) return notOneOf(value, choices);
  switch (rule.value.kind) {
    case 'count':
      return /^\d+$/.test(value) ? undefined : notAWholeNumber(value);
    case 'share':
      return /^\d+(\.\d+)?%?$/.test(value) ? undefined : notAShare(value);
    case 'interval':
      return INTERVAL.test(value) ? undefined : notALength(value);
    case 'length':
      return secondsOf(value) === undefined ? notAFixedLength(value) : undefined;
    case 'interval or number':
      return INTERVAL.test(value) || /^\s*\d+(\.\d+)?\s*$/.test(value) ? undefined : neitherLengthNorNumber(value);
    default:
      return undefined;
  }
}

/** Reports unknown options with the nearest right name, and values that an option cannot have. */
export function checkOptions(
  path: IndexedFile['path'],
  options: ReadonlyMap<string, OptionValue>,
  allowed: Rules<string>,
  what: string,
): Diagnostic[] {
  const found: Diagnostic[] = [];
  for (const [name, { value, range }] of options) {
    const rule = Object.hasOwn(allowed, name) ? allowed[name] : undefined;
    const problem = rule && valueProblemOf(rule, value);
    if (!rule) found.push(errorAt({ path, range }, unknownOption(what, name, Object.keys(allowed))));
    else if (problem) found.push(errorAt({ path, range }, badOption(name, problem)));
  }
  return found;
}
