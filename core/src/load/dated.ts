import { ident, idents, qualified } from '../sql/quote.js';
import type { PolicyContext } from './policy.js';
import { createKeyMaps, keyMapsOf, newRow, numberKeys } from './keys.js';
import { CHANGES, counts, dropTemporary, ROWS, run, type LoadStep } from './steps.js';
import { columnWith, columnsOf, optionOf, writtenColumns } from './target.js';

/**
 * A full copy a date. A date of the query replaces that date, unless its rows are the same; the newest
 * date is flagged current, and a late older one does not take the flag.
 */
export function datedSteps({ target, own, home }: PolicyContext): LoadStep[] {
  const place = qualified(own);
  const asOf = ident(columnWith(target, 'as of')!);
  const flag = columnWith(target, 'current flag');
  const maps = keyMapsOf(target, home);
  const written = writtenColumns(target);
  const names = written.map((c) => c.name);
  const keep = optionOf(target.table, 'keep_copies');
  const row = newRow(target, maps, 'q', (c) => (c.name === flag ? 'false' : undefined));
  const ofQuery = `select ${columnsOf('q', names)} from ${ROWS} as q`;
  const ofTable = `select ${columnsOf('t', names)} from ${place} as t where t.${asOf} in (select ${asOf} from ${ROWS})`;
  return [
    ...createKeyMaps(maps),
    run(
      'build',
      `create temp table changes on commit drop as
select ${asOf}, exists (select from ${place} as t where t.${asOf} = d.${asOf}) as replaced
from (select distinct ${asOf} from ((${ofQuery} except all ${ofTable}) union all (${ofTable} except all ${ofQuery})) as different) as d`,
    ),
    ...numberKeys(maps, `(select * from ${ROWS} where ${asOf} in (select ${asOf} from ${CHANGES}))`),
    run('build', `delete from ${place} where ${asOf} in (select ${asOf} from ${CHANGES} where replaced)`),
    run(
      'build',
      `insert into ${place} (${idents(target.columns.map((c) => c.name))})\nselect ${row.items}\nfrom ${ROWS} as q${row.join}\nwhere q.${asOf} in (select ${asOf} from ${CHANGES})`,
    ),
    ...(keep === undefined
      ? []
      : [
          run(
            'build',
            `delete from ${place} where ${asOf} < (select min(${asOf}) from (select distinct ${asOf} from ${place} order by ${asOf} desc limit ${keep}) as kept)`,
          ),
        ]),
    ...(flag === undefined
      ? []
      : [
          run(
            'build',
            `update ${place} set ${ident(flag)} = not ${ident(flag)}\nwhere ${ident(flag)} is distinct from (${asOf} = (select max(${asOf}) from ${place}))`,
          ),
        ]),
    counts(CHANGES, { 'new dates': 'not replaced', 'replaced dates': 'replaced' }),
    dropTemporary(CHANGES),
  ];
}
