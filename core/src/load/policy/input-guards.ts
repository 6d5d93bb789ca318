import { keepsOneRowAKey, type AppendSpec, keyColumns } from '../../language/spec.js';
import { columnsOf, sortsFast } from '../../compile/target.js';
import type { Target } from '../../compile/target.js';
import { guard, together, ROWS, rememberRows, checking } from '../../compile/steps.js';
import { wrapped } from '../../sql/edits.js';
import { isEndless } from '../../compile/watermark.js';
import { ident, qualified } from '../../sql/quote.js';
import type { Guard } from '../../compile/steps.js';
import type { EditedText } from '../../sql/edits.js';
import type { PolicyContext } from './context.js';
/** That each row says how far it has come: without a watermark it would be added at every load, and after an endless one nothing would be. */
export function watermarkGuards(
  { target, spec: { watermark } }: PolicyContext<AppendSpec>,
  query: EditedText,
): Guard[] {
  const [name, type] = [`q.${ident(watermark)}`, target.columns.find((c) => c.name === watermark)?.type ?? 'text'];
  const endless = isEndless(`cast(${name} as ${type})`, type);
  const rowsWhere = (condition: string) => wrapped(`select * from (\n`, query, `\n) as q where ${condition}`).text;
  const missing = guard(
    rowsWhere(`${name} is null`),
    `rows without a watermark (${watermark})`,
    'A row with a null watermark would be added at every load: filter it out, or give it a value.',
  );
  if (endless === undefined) return [missing];
  const unbounded = guard(
    rowsWhere(endless),
    `rows whose watermark (${watermark}) is infinite or not a number`,
    'No later row would ever pass it: filter it out, or give it a finite value.',
  );
  return [together(rowsWhere(`${name} is null or ${endless}`), [missing, unbounded])];
}

/** A query that finds something where a row's needed columns are null, or two rows have the same unique ones. */
function faultyKeys(
  target: Target,
  unique: readonly string[],
  needed: readonly string[],
  asOf: string | undefined,
): string {
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
export function inputGuards(context: PolicyContext): Guard[] {
  const { target, own, spec } = context;
  const { needed, unique, asOf } = keyColumns(spec, target.columns);
  const found: Guard[] = [];
  if (needed.length)
    found.push(
      checking(
        'keys_are_known',
        guard(
          `select * from ${ROWS} as q where ${needed.map((c) => `q.${ident(c)} is null`).join(' or ')}`,
          `the query returns rows whose ${needed.join(', ')} is null`,
          'Filter them out in the query, or give them a value.',
        ),
      ),
    );
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
  const missing = keepsOneRowAKey(spec) && !spec.allowsEmpty ? spec.missingRows : 'keep';
  if (missing !== 'keep')
    found.push(
      guard(
        `select 'the query returned no row' as problem where not exists (select from ${ROWS}) and exists (select from ${qualified(own)})`,
        'the query returns no rows',
        `Every row would count as missing (missing_rows = ${missing}). If that is intended, set empty = allow.`,
      ),
    );
  return found;
}
