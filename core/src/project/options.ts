import type { IndexedFile, OptionValue } from './model.js';
import { LOAD_POLICIES } from './model.js';
import type { Diagnostic } from './diagnostic.js';
import { didYouMean } from '../sql/nearest.js';

/** What may stand in `WITH (...)` and `OPTIONS (...)`, and how a wrong one is told. */
type OptionCheck = (value: string) => string | undefined;

const anything: OptionCheck = () => undefined;
const oneOf =
  (...values: readonly string[]): OptionCheck =>
  (value) =>
    values.includes(value) ? undefined : `${value} is none of ${values.join(', ')}${hint(value, values)}`;
const hint = (value: string, values: readonly string[]) => {
  const near = didYouMean(value, values);
  return near ? `; ${near}` : '';
};
const boolean = oneOf('true', 'false', 'on', 'off');
const count: OptionCheck = (value) => (/^\d+$/.test(value) ? undefined : `${value} is not a whole number`);
const share: OptionCheck = (value) => (/^\d+(\.\d+)?%?$/.test(value) ? undefined : `${value} is neither a count nor a percentage such as 0.5%`);

const INTERVAL =
  /^\s*(([+-]?\d+(\.\d+)?\s*(years?|yrs?|y|months?|mons?|weeks?|w|days?|d|hours?|hrs?|h|minutes?|mins?|m|seconds?|secs?|s)\b\s*)+|\d+:\d\d(:\d\d(\.\d+)?)?|P[\dYMWDTHS.]+)\s*$/i;
const interval: OptionCheck = (value) => (INTERVAL.test(value) ? undefined : `${value} is not a length of time such as 26 hours`);
const intervalOrNumber: OptionCheck = (value) =>
  INTERVAL.test(value) || /^\s*\d+(\.\d+)?\s*$/.test(value) ? undefined : `${value} is neither a length of time such as 3 days nor a number`;

/** Storage parameters of PostgreSQL pass through to the table. */
export const STORAGE_PARAMETERS: readonly string[] = [
  'fillfactor',
  'parallel_workers',
  'autovacuum_enabled',
  'toast_tuple_target',
  'autovacuum_vacuum_scale_factor',
  'autovacuum_analyze_scale_factor',
];

export const TABLE_OPTIONS: Readonly<Record<string, OptionCheck>> = {
  load: oneOf(...LOAD_POLICIES),
  business_key: anything,
  watermark: anything,
  look_back: intervalOrNumber,
  set_columns: anything,
  update_when: anything,
  insert_when: anything,
  delete_when: anything,
  missing_rows: oneOf('keep', 'delete', 'flag', 'close'),
  effective_from: anything,
  order_within: anything,
  overwrite_scope: oneOf('all', 'current'),
  keep_copies: count,
  drift: oneOf('add', 'stop', 'ignore'),
  owner: anything,
  tags: anything,
  advisory: anything,
  tolerate: anything,
  for_each: anything,
  each_schema: anything,
  before: anything,
  was: anything,
  key_method: oneOf('sequence', 'hash'),
  empty: oneOf('stop', 'allow'),
  largest_loss: share,
  shape: oneOf('in_place', 'rewrite'),
  ...Object.fromEntries(STORAGE_PARAMETERS.map((name) => [name, anything])),
};

export const COLUMN_ROLES: readonly string[] = [
  'surrogate key',
  'durable key',
  'valid from',
  'valid to',
  'current flag',
  'version number',
  'row hash',
  'loaded at',
  'run id',
  'as of',
  'deleted flag',
  'measure',
  'attribute',
];

export const COLUMN_OPTIONS: Readonly<Record<string, OptionCheck>> = {
  role: oneOf(...COLUMN_ROLES),
  on_change: oneOf('version', 'overwrite', 'keep', 'previous'),
  previous_of: anything,
  looked_up_by: anything,
  at: anything,
  before_first: oneOf('first', 'unknown'),
  missing: oneOf('unknown', 'infer', 'stop'),
  unknown: anything,
  was: anything,
};

export const CHECK_OPTIONS: Readonly<Record<string, OptionCheck>> = { advisory: boolean, tolerate: share, about: anything };

export const SOURCE_TABLE_OPTIONS: Readonly<Record<string, OptionCheck>> = {
  schema_name: anything,
  table_name: anything,
  intake: oneOf('full', 'incremental'),
  watermark: anything,
  look_back: intervalOrNumber,
  late_after: interval,
  only: anything,
  left_out: anything,
  limit: count,
  drift: oneOf('add', 'stop', 'ignore'),
  pattern: anything,
  format: oneOf('csv', 'jsonl', 'parquet'),
  bad_rows: oneOf('stop', 'set aside'),
  delimiter: anything,
  quote: anything,
  header: boolean,
  encoding: anything,
  null: anything,
  decimal: oneOf('.', ','),
  then_run: anything,
};

export const SOURCE_COLUMN_OPTIONS: Readonly<Record<string, OptionCheck>> = { column_name: anything };

/** Reports unknown options with the nearest right name, and values that an option cannot have. */
export function checkOptions(
  path: IndexedFile['path'],
  options: ReadonlyMap<string, OptionValue>,
  allowed: Readonly<Record<string, OptionCheck>>,
  what: string,
): Diagnostic[] {
  const found: Diagnostic[] = [];
  for (const [name, { value, range }] of options) {
    const check = Object.hasOwn(allowed, name) ? allowed[name] : undefined;
    if (!check) {
      const near = didYouMean(name, Object.keys(allowed));
      found.push({ code: 'unknown-option', severity: 'error', path, range, message: `${what} has no option ${name}`, ...(near ? { hint: near } : {}) });
      continue;
    }
    const problem = check(value);
    if (problem) found.push({ code: 'bad-option', severity: 'error', path, range, message: `option ${name}: ${problem}` });
  }
  return found;
}
