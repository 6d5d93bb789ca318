import { ident, idents, qualified } from '../../sql/quote.js';
import type { PolicyContext } from '../policy/context.js';
import { createKeyMaps, keyMapsOf, newRow, numberKeys } from '../../keys/keys.js';
import { completeMembers, lastMembers } from '../../keys/members.js';
import { readsDirectly } from '../../keys/direct.js';
import { counts, dropTemporary, GUARD_ROWS, ROWS, rowsWritten, run, type LoadStep } from '../../compile/steps.js';
import { sameKey } from '../../compile/target.js';
import type { AppendSpec } from '../../language/spec.js';
import { greatestWatermark } from '../../compile/watermark.js';

/**
 * Rows past the highest watermark already loaded. The bound has been put around the query (see
 * `watermarkBound`); with a business key and a look-back, rows of the look-back that are there already are
 * left out.
 */
export function appendSteps(context: PolicyContext<AppendSpec>): LoadStep[] {
  const { target, own, home } = context;
  const maps = keyMapsOf(target, home);
  const known = target.key.length
    ? `\nwhere not exists (select from ${qualified(own)} as t where ${sameKey('t', 'q', target.key)})`
    : '';
  const row = newRow(target, maps, 'q');
  const insertFrom = (rows: string) =>
    run(
      'build',
      `insert into ${qualified(own)} (${idents(target.columns.map((c) => c.name))})\nselect ${row.items}\nfrom ${rows} as q${row.join}`,
    );
  // Rows that are read where they are and of which nothing has to be known need not be kept. The table may be a copy, made in this transaction.
  if (readsDirectly(context) && maps.length === 0 && known === '')
    return [
      run('session', `select set_config('load.written', (${rowsWritten(own)})::text, true)`),
      insertFrom(ROWS),
      {
        step: 'count',
        sql: `select ${rowsWritten(own)} - cast(current_setting('load.written') as bigint) as inserted`,
        rows: { inserted: `select * from ${ROWS} limit ${GUARD_ROWS / 2}` },
      },
    ];
  return [
    ...createKeyMaps(maps),
    ...completeMembers(target, context),
    run('build', `create temp table changes on commit drop as\nselect * from ${ROWS} as q${known}`),
    ...numberKeys(maps, 'pg_temp.changes'),
    insertFrom('pg_temp.changes'),
    ...lastMembers(target, context),
    counts('pg_temp.changes', { inserted: 'true' }),
    dropTemporary('pg_temp.changes'),
  ];
}

/**
 * Reads the highest watermark that is there, less the look-back, into a setting: a stable expression,
 * so that the bound reaches an index of the query's input.
 * @returns whether there is none yet, the step, and the condition over the query's rows, `q`
 */
export function watermarkBound({ target, own, spec }: PolicyContext<AppendSpec>): {
  readonly none: string;
  readonly step: LoadStep;
  readonly condition: string;
} {
  const name = spec.watermark;
  const type = target.columns.find((c) => c.name === name)?.type ?? 'text';
  const greatest = greatestWatermark(name, type, spec.lookBack);
  return {
    none: `select not exists (select from ${qualified(own)} where ${ident(name)} is not null) as holds`,
    step: run('session', `select set_config('load.bound', (select (${greatest})::text from ${qualified(own)}), true)`),
    condition: `q.${ident(name)} > cast(current_setting('load.bound') as ${type})`,
  };
}
