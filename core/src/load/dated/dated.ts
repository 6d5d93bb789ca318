import type { DatedSpec } from '../../language/spec.js';
import { columnWith } from '../../language/roles.js';
import { ident, idents, qualified } from '../../sql/quote.js';
import type { PolicyContext } from '../policy/context.js';
import { createKeyMaps, keyMapsOf, newRow, numberKeys } from '../../keys/keys.js';
import { CHANGES, counts, dropTemporary, ROWS, run, type LoadStep } from '../../compile/steps.js';
import { comparable, writtenColumns } from '../../compile/target.js';

/**
 * A full copy a date. A date of the query replaces that date, unless its rows are the same; the newest
 * date is flagged current, and a late older one does not take the flag.
 */
export function datedSteps({ target, own, home, spec }: PolicyContext<DatedSpec>): LoadStep[] {
  const place = qualified(own);
  const asOf = ident(columnWith(target, 'as of')!);
  const flag = columnWith(target, 'current flag');
  const maps = keyMapsOf(target, home);
  const written = writtenColumns(target);
  const keep = spec.keepCopies;
  // Rows are written with the flag that they keep: only those of the date that loses it are written again.
  const newest = `(select greatest((select max(${asOf}) from ${place}), (select max(${asOf}) from ${CHANGES})))`;
  const row = newRow(target, maps, 'q', (c) => (c.name === flag ? `q.${asOf} = ${newest}` : undefined));
  const compared = (alias: string) =>
    written.map((c) => `${comparable(`${alias}.${ident(c.name)}`, c)} as ${ident(c.name)}`).join(', ');
  const ofQuery = `select ${compared('q')} from ${ROWS} as q where q.${asOf} in (select ${asOf} from ${place})`;
  const ofTable = `select ${compared('t')} from ${place} as t where t.${asOf} in (select ${asOf} from ${ROWS})`;
  const changed = `(select ${asOf} from ${CHANGES} where differs$)`;
  const oldest = (dates: string) =>
    `(select min(${asOf}) from (${dates} order by ${asOf} desc limit ${keep!}) as kept)`;
  // A date beyond those that stay would come and go again with each load.
  const ofKept =
    keep === undefined
      ? ''
      : ` where ${asOf} >= ${oldest(`select ${asOf} from delivered union select ${asOf} from ${place}`)}`;
  return [
    ...createKeyMaps(maps),
    run(
      'build',
      // A date that is not there is taken without comparing: the list of different ones is only made where it is asked for.
      // Whether a date is there is asked by the least from it on, which an index gives: exists reads the whole table for one that is not.
      `create temp table changes on commit drop as
with delivered as materialized (
  select distinct ${asOf} from ${ROWS}
), dates as materialized (
  select ${asOf}, (select min(t.${asOf}) from ${place} as t where t.${asOf} >= d.${asOf}) is not distinct from d.${asOf} as replaced$ from delivered as d${ofKept}
)
select ${asOf}, replaced$, case when replaced$ then ${asOf} in (select ${asOf} from ((${ofQuery} except all ${ofTable}) union all (${ofTable} except all ${ofQuery})) as different) else true end as differs$
from dates`,
    ),
    ...numberKeys(maps, `(select * from ${ROWS} where ${asOf} in ${changed})`),
    run('build', `delete from ${place} where ${asOf} in (select ${asOf} from ${CHANGES} where replaced$ and differs$)`),
    // Before the new rows are there, which need not be looked at.
    ...(flag === undefined
      ? []
      : [
          run(
            'build',
            `update ${place} set ${ident(flag)} = not ${ident(flag)}\nwhere ${ident(flag)} is distinct from (${asOf} = ${newest})`,
          ),
        ]),
    run(
      'build',
      `insert into ${place} (${idents(target.columns.map((c) => c.name))})\nselect ${row.items}\nfrom ${ROWS} as q${row.join}\nwhere q.${asOf} in ${changed}`,
    ),
    ...(keep === undefined
      ? []
      : [run('build', `delete from ${place} where ${asOf} < ${oldest(`select distinct ${asOf} from ${place}`)}`)]),
    counts(
      CHANGES,
      { 'new dates': 'not replaced$', 'replaced dates': 'replaced$ and differs$', 'unchanged dates': 'not differs$' },
      keep === undefined ? {} : { 'dates too old to stay': `(select count(distinct ${asOf}) from ${ROWS}) - count(*)` },
    ),
    dropTemporary(CHANGES),
  ];
}
