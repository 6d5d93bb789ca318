import { ident, idents, qualified } from '../sql/quote.js';
import type { ColumnDeclaration } from '../project/model.js';
import type { PolicyContext } from './policy.js';
import { createKeyMaps, filledValue, keyMapsOf, newRow, numberKeys } from './keys.js';
import type { Place } from './place.js';
import { lookUpAgain } from './look-ups.js';
import { shapeSteps } from './shape.js';
import { completeMembers, knownRows, lastMembers } from './members.js';
import { CHANGES, counts, dropTemporary, guard, ROWS, run, type LoadStep } from './steps.js';
import { columnWith, columnsOf, differ, namesIn, optionOf, sameKey, stampOf, storage, writtenColumns } from './target.js';

/** Above this share of changed rows, writing all of them anew is faster: measured. */
const REWRITE_SHARE = 0.15;

/** One row a key, kept up to date. */
export function mergeSteps(context: PolicyContext): LoadStep[] {
  const { target, home } = context;
  const { table, key } = target;
  const maps = keyMapsOf(target, home);
  const written = writtenColumns(target);
  const names = optionOf(table, 'set_columns');
  const compared = written.filter((c) => !key.includes(c.name) && (names === undefined || namesIn(names).includes(c.name)));
  const missing = optionOf(table, 'missing_rows') ?? 'keep';
  const flag = columnWith(target, 'deleted flag');
  const when = {
    delete: context.condition('delete_when') ?? 'false',
    update: context.condition('update_when') ?? 'true',
    insert: context.condition('insert_when') ?? 'true',
  };
  const isNew = `t.row_id is null`;
  const isMissing = `q.${ident(key[0]!)} is null`;
  const reappears = missing === 'flag' && flag !== undefined ? ` or t.${ident(flag)}` : '';
  const missingOp =
    missing === 'delete' ? "'missing'" : missing === 'flag' && flag !== undefined ? `case when t.${ident(flag)} is not true then 'flagged' end` : 'null';
  const op = `case
    when ${isMissing} then ${missingOp}
    when (${when.delete}) then case when ${isNew} then null else 'deleted' end
    when ${isNew} then case when (${when.insert}) then 'inserted' end
    when (${differ('t', 'q', compared)}${reappears}) and (${when.update}) then 'updated'
  end`;
  const changes = `create temp table changes on commit drop as
select * from (
  select ${columnsOf(
    'q',
    written.map((c) => c.name),
  )}, t.row_id, ${op} as op
  from ${ROWS} as q
  ${missing === 'keep' ? 'left' : 'full'} join ${knownRows(target, context)} as t on ${sameKey('q', 't', key)}
) as found
where op is not null`;
  const done = "op in ('deleted', 'missing')";
  return [
    ...createKeyMaps(maps),
    ...completeMembers(target, context, undefined, `(${when.insert}) and not (${when.delete})`),
    run('build', changes),
    run('session', `analyze ${CHANGES}`),
    ...lossGuard(context, "op in ('missing', 'flagged')"),
    ...numberKeys(maps, `(select * from ${CHANGES} where op = 'inserted')`),
    ...shapeSteps(
      context,
      REWRITE_SHARE,
      [...inPlace(context, compared, done), ...lookUpAgain(context, context.own), ...lastMembers(target, context)],
      (beside) => [anew(context, beside, compared, done), ...lookUpAgain(context, beside), ...lastMembers(target, { own: beside, home })],
    ),
    counts(CHANGES, {
      inserted: "op = 'inserted'",
      updated: "op = 'updated'",
      deleted: done,
      ...(missing === 'flag' ? { flagged: "op = 'flagged'" } : {}),
    }),
    dropTemporary(CHANGES),
  ];
}

/** All rows, with the changes, as a table beside. */
function anew({ target, own, home }: PolicyContext, beside: Place, compared: readonly ColumnDeclaration[], done: string): LoadStep {
  const row = newRow(target, keyMapsOf(target, home), 'c');
  const when = (op: string, value: string, column: string) => `case when c.op = '${op}' then ${value} else t.${column} end as ${column}`;
  const after = (c: ColumnDeclaration) => `${compared.includes(c) ? 'c' : 't'}.${ident(c.name)}`;
  const items = target.columns.map((c) => {
    const name = ident(c.name);
    if (compared.includes(c)) return when('updated', `c.${name}`, name);
    if (c.options['role'] === 'deleted flag') return `case c.op when 'updated' then false when 'flagged' then true else t.${name} end as ${name}`;
    return isStamp(c) ? when('updated', filledValue(target, c, after), name) : `t.${name}`;
  });
  return run(
    'build',
    `create table ${qualified(beside)}${storage(target.table)} as
select ${items.join(',\n       ')}
from ${qualified(own)} as t left join ${CHANGES} as c on c.row_id = t.ctid
where (c.${done}) is not true
union all
select ${row.items}
from ${CHANGES} as c${row.join}
where c.op = 'inserted'`,
  );
}

/** Whether a column says something of the last change of its row. */
const isStamp = (c: ColumnDeclaration): boolean => c.options['role'] === 'row hash' || (c.options['role'] !== 'deleted flag' && stampOf(c) !== undefined);

/** Stops a load that would take more of the table away than its contract allows. */
export function lossGuard({ target, own }: PolicyContext, lost: string): LoadStep[] {
  const largest = optionOf(target.table, 'largest_loss');
  if (largest === undefined) return [];
  const amount = largest.endsWith('%') ? `(select count(*) from ${qualified(own)}) * ${Number(largest.slice(0, -1)) / 100}` : largest;
  return [
    guard(
      `select * from ${CHANGES} where ${lost} and (select count(*) from ${CHANGES} where ${lost}) > ${amount}`,
      `the load would remove more than ${largest} of the rows`,
      'Look why the query returns so few rows; raise largest_loss if it is right.',
    ),
  ];
}

function inPlace({ target, own, home }: PolicyContext, compared: readonly ColumnDeclaration[], done: string): LoadStep[] {
  const place = qualified(own);
  const flag = columnWith(target, 'deleted flag');
  const stamps = target.columns.filter(isStamp);
  const after = (c: ColumnDeclaration) => `${compared.includes(c) ? 'c' : 't'}.${ident(c.name)}`;
  const sets = [...compared.map((c) => `${ident(c.name)} = c.${ident(c.name)}`), ...stamps.map((c) => `${ident(c.name)} = ${filledValue(target, c, after)}`)];
  const flagged = flag === undefined ? [] : [`${ident(flag)} = false`];
  const row = newRow(target, keyMapsOf(target, home), 'c');
  return [
    run('build', `delete from ${place} as t using ${CHANGES} as c where t.ctid = c.row_id and c.${done}`),
    ...(sets.length + flagged.length
      ? [run('build', `update ${place} as t set ${[...sets, ...flagged].join(', ')}\nfrom ${CHANGES} as c where t.ctid = c.row_id and c.op = 'updated'`)]
      : []),
    ...(flag === undefined
      ? []
      : [run('build', `update ${place} as t set ${ident(flag)} = true\nfrom ${CHANGES} as c where t.ctid = c.row_id and c.op = 'flagged'`)]),
    run(
      'build',
      `insert into ${place} (${idents(target.columns.map((c) => c.name))})\nselect ${row.items}\nfrom ${CHANGES} as c${row.join}\nwhere c.op = 'inserted'`,
    ),
  ];
}
