import type { MergeSpec } from '../../language/spec.js';
import { columnWith, hasRole } from '../../language/roles.js';
import { lossGuard } from '../policy/loss-guard.js';
import { ident, idents, qualified } from '../../sql/quote.js';
import { constraintChecks, isEnforced, type ConstraintCheck } from '../../check/constraint-checks.js';
import type { ColumnDeclaration } from '../../model/project.js';
import { constraintStatement } from '../../check/constraint-statement.js';
import type { PolicyContext } from '../policy/context.js';
import { createKeyMaps, filledValue, keyMapsOf, newRow, numberKeys } from '../../keys/keys.js';
import { readsDirectly } from '../../keys/direct.js';
import type { Place } from '../../model/place.js';
import { lookUpAgain } from '../../keys/look-ups-again.js';
import { countedChanges, sampledChanges, shapeSteps } from '../policy/shape.js';
import { completeMembers, knownRows, lastMembers } from '../../keys/members.js';
import {
  analyzeChanges,
  byPlace,
  CHANGES,
  counts,
  dropTemporary,
  dropTemporaryView,
  FOUND,
  inOrderOfPlace,
  ROWS,
  rowsOfTheQuery,
  rowsWritten,
  run,
  type Guard,
  type LoadStep,
} from '../../compile/steps.js';
import { columnsOf, differ, sameKey, sortsFast, stampOf, storage, writtenColumns } from '../../compile/target.js';

/** Above this share of changed rows, writing all of them again is faster: measured. */
const REWRITE_SHARE = 0.15;

/**
 * One row a key, kept up to date.
 * @param guards what has to hold of the query's rows before anything is changed
 * @param asking the steps that ask them
 */
export function mergeSteps(
  context: PolicyContext<MergeSpec>,
  guards: readonly Guard[],
  asking: readonly LoadStep[],
): LoadStep[] {
  const { target, home, spec } = context;
  const { key } = target;
  const maps = keyMapsOf(target, home);
  const given = writtenColumns(target);
  const compared = comparedColumns(context);
  const missing = spec.missingRows;
  const flag = columnWith(target, 'deleted flag');
  const when = {
    delete: context.condition(spec.deleteWhen) ?? 'false',
    update: context.condition(spec.updateWhen) ?? 'true',
    insert: context.condition(spec.insertWhen) ?? 'true',
  };
  const isNew = `t.row_id$ is null`;
  const isMissing = `q.${ident(key[0]!)} is null`;
  // A flag of deletion follows presence in the query alone, whatever update_when says of the other columns.
  const reappears = missing === 'flag' && flag !== undefined ? `t.${ident(flag)}` : '';
  const missingOp =
    missing === 'delete'
      ? "'missing'"
      : missing === 'flag' && flag !== undefined
        ? `case when t.${ident(flag)} is not true then 'flagged' end`
        : 'null';
  const op = `case
    when ${isMissing} then ${missingOp}
    when (${when.delete}) then case when ${isNew} then null else 'deleted' end
    when ${isNew} then case when (${when.insert}) then 'inserted' end
    when (${differ('t', 'q', compared)}${reappears ? ` or ${reappears}` : ''}) and (${when.update}) then 'updated'${reappears ? `\n    when ${reappears} then 'returned'` : ''}
  end`;
  const found = `select * from (
  select ${columnsOf(
    'q',
    given.map((c) => c.name),
  )}, t.row_id$, ${op} as op$
  from ${ROWS} as q
  ${missing === 'keep' ? 'left' : 'full'} join ${knownRows(target, context)} as t on ${sameKey('q', 't', key)}
) as found
where op$ is not null`;
  const sampled = sampledChanges(
    context.own,
    (sample) => `select ${op} as op$ from ${ROWS} as q join ${sample} as t on ${sameKey('q', 't', key)}`,
  );
  const removes = missing === 'delete' || spec.deleteWhen !== undefined;
  const removed = "op$ in ('deleted', 'missing')";
  const written: Written = { compared, removed: removes ? removed : undefined };
  const body = (changes: string, steps: readonly LoadStep[], own: Place): LoadStep[] => [
    ...lossGuard(
      context,
      changes,
      "op$ in ('missing', 'flagged', 'deleted')",
      flag === undefined ? 'true' : `k.${ident(flag)} is not true`,
    ),
    ...numberKeys(maps, `(select * from ${changes} where op$ = 'inserted')`),
    ...steps,
    ...lookUpAgain(context, own),
    ...lastMembers(target, { own, home }),
    counts(changes, {
      inserted: "op$ = 'inserted'",
      updated: reappears ? "op$ in ('updated', 'returned')" : "op$ = 'updated'",
      deleted: removed,
      ...(missing === 'flag' ? { flagged: "op$ = 'flagged'" } : {}),
    }),
  ];
  const joinsKeys = maps.length > 0 || target.lookUps.length > 0;
  const kept = [
    run('build', `create temp table changes on commit drop as select * from ${FOUND}`),
    ...(joinsKeys ? [analyzeChanges(['row_id$', 'op$'])] : []),
  ];
  // Rows that are read where they are can be joined by several workers, so that joining twice costs less than keeping what changes. A full join cannot.
  const direct = missing === 'keep' && readsDirectly(context);
  const changes = direct ? FOUND : CHANGES;
  const amount = direct && spec.shape !== 'rewrite' ? sampled : countedChanges(changes);
  const provingKey = keyProvenAnew(context);
  const [first, later] = provingKey ? [[], asking] : [asking, []];
  return [
    ...first,
    ...createKeyMaps(maps),
    ...completeMembers(target, context, undefined, `(${when.insert}) and not (${when.delete})`),
    run('session', `create temp view found_changes as ${found}`),
    ...(direct ? [] : kept),
    ...shapeSteps(context, {
      amount,
      share: REWRITE_SHARE,
      inPlace: [...later, ...(direct ? kept : []), ...body(CHANGES, inPlace(context, written), context.own)],
      rewrite: (staged) =>
        isTakenAsGiven(context)
          ? takenAsGiven(
              context,
              staged,
              provingKey && { step: 'prove', sql: constraintStatement([provingKey], staged)!, guards },
            )
          : body(changes, [rewritten(context, staged, changes, written)], staged),
    }),
    dropTemporary(CHANGES),
    dropTemporaryView(FOUND),
  ];
}

/** Columns that an update sets. */
function comparedColumns({ target, spec }: PolicyContext<MergeSpec>): ColumnDeclaration[] {
  return writtenColumns(target).filter(
    (c) => !target.key.includes(c.name) && (spec.setColumns?.includes(c.name) ?? true),
  );
}

/** Which columns of changed rows are written, and which changes take a row away, if any do. */
interface Written {
  readonly compared: readonly ColumnDeclaration[];
  readonly removed: string | undefined;
}

/** All rows, with the changes, as a table beside. */
function rewritten(
  { target, own, home }: PolicyContext,
  staged: Place,
  changes: string,
  { compared, removed }: Written,
): LoadStep {
  const row = newRow(target, keyMapsOf(target, home), 'c');
  const when = (op: string, value: string, column: string) =>
    `case when c.op$ = '${op}' then ${value} else t.${column} end as ${column}`;
  const after = (c: ColumnDeclaration) => `${compared.includes(c) ? 'c' : 't'}.${ident(c.name)}`;
  const items = target.columns.map((c) => {
    const name = ident(c.name);
    if (compared.includes(c)) return when('updated', `c.${name}`, name);
    if (hasRole(c, 'deleted flag'))
      return `case c.op$ when 'updated' then false when 'returned' then false when 'flagged' then true else t.${name} end as ${name}`;
    return isStamp(c) ? when('updated', filledValue(target, c, after), name) : `t.${name}`;
  });
  return run(
    'build',
    `create table ${qualified(staged)}${storage(target.table)} as
select ${items.join(',\n       ')}
from ${qualified(own)} as t left join ${changes} as c on c.row_id$ = t.ctid${removed === undefined ? '' : `\nwhere (c.${removed}) is not true`}
union all
select ${row.items}
from ${changes} as c${row.join}
where c.op$ = 'inserted'`,
  );
}

/** Types of which equal values are the same: 1.0 and 1.00 are equal. */
const SAME_IF_EQUAL =
  /^(smallint|integer|bigint|boolean|text|varchar|date|timestamp|timestamptz|uuid|numeric\(\d+(,\d+)?\))(\(\d+\))?$/;

/** Whether a row of the query is a row of the table as it is: nothing is numbered, stamped, kept or decided by a condition. */
function isTakenAsGiven(context: PolicyContext<MergeSpec>): boolean {
  const { columns, key, isLookedUp } = context.target;
  const { missingRows, updateWhen, insertWhen, deleteWhen } = context.spec;
  const compared = comparedColumns(context);
  return (
    readsDirectly(context) &&
    missingRows === 'keep' &&
    !isLookedUp &&
    [updateWhen, insertWhen, deleteWhen].every((condition) => condition === undefined) &&
    columns.every((c) => SAME_IF_EQUAL.test(c.type) && (key.includes(c.name) || compared.includes(c)))
  );
}

/**
 * The primary key of a table that is rewritten from the query's rows as they are: where these have null or repeated
 * keys it cannot be added, so that the load need not look for them before.
 */
export function keyProvenAnew(context: PolicyContext<MergeSpec>): ConstraintCheck | undefined {
  const { project, target } = context;
  if (!context.staged || !isTakenAsGiven(context)) return undefined;
  return constraintChecks(project, target.table).find(
    (c) =>
      c.kind === 'primary key' &&
      isEnforced(c) &&
      c.columns.length === target.key.length &&
      c.columns.every((name) => target.key.includes(name)),
  );
}

/**
 * All rows as a table beside, without comparing any: the query's, and those of keys that it does not return. Rows
 * of known keys count as replaced, whether they differ or not: comparing them takes as long as writing them.
 * @param proof adds the key, where that tells whether the query's rows can be loaded
 */
function takenAsGiven({ target, own }: PolicyContext, staged: Place, proof: LoadStep | undefined): LoadStep[] {
  const columns = target.columns.map((c) => c.name);
  const inserted = `${rowsWritten(staged)} - (select count(*) from ${qualified(own)})`;
  return [
    run(
      'build',
      `create table ${qualified(staged)}${storage(target.table)} as
select ${columnsOf('q', columns)} from ${ROWS} as q
union all
select ${columnsOf('t', columns)} from ${qualified(own)} as t where not exists (select from ${ROWS} as q where ${sameKey('q', 't', target.key)})`,
    ),
    ...(proof ? [proof] : []),
    {
      step: 'count',
      sql: `select inserted, given - inserted as replaced\nfrom (select ${inserted} as inserted, ${rowsOfTheQuery(!proof && sortsFast(target, target.key) ? 'remembered' : 'to be counted')} as given) as n`,
      rows: {},
    },
  ];
}

/** Whether a column says something of the last change of its row. */
const isStamp = (c: ColumnDeclaration): boolean =>
  hasRole(c, 'row hash') || (!hasRole(c, 'deleted flag') && stampOf(c) !== undefined);

function inPlace({ target, own, home }: PolicyContext, { compared, removed }: Written): LoadStep[] {
  const place = qualified(own);
  const flag = columnWith(target, 'deleted flag');
  const stamps = target.columns.filter(isStamp);
  const after = (c: ColumnDeclaration) => `${compared.includes(c) ? 'c' : 't'}.${ident(c.name)}`;
  const sets = [
    ...compared.map((c) => `${ident(c.name)} = c.${ident(c.name)}`),
    ...stamps.map((c) => `${ident(c.name)} = ${filledValue(target, c, after)}`),
  ];
  const flagged = flag === undefined ? [] : [`${ident(flag)} = false`];
  const row = newRow(target, keyMapsOf(target, home), 'c');
  const update = (items: readonly string[], which: string) =>
    run(
      'build',
      `update ${place} as t set ${items.join(', ')}\nfrom ${inOrderOfPlace(which)} as c where t.ctid = c.row_id$`,
    );
  return [
    ...byPlace([
      ...(removed === undefined
        ? []
        : [run('build', `delete from ${place} as t using ${inOrderOfPlace(removed)} as c where t.ctid = c.row_id$`)]),
      ...(sets.length + flagged.length ? [update([...sets, ...flagged], "op$ = 'updated'")] : []),
      ...(flag === undefined
        ? []
        : [update([`${ident(flag)} = true`], "op$ = 'flagged'"), update(flagged, "op$ = 'returned'")]),
    ]),
    run(
      'build',
      `insert into ${place} (${idents(target.columns.map((c) => c.name))})\nselect ${row.items}\nfrom ${CHANGES} as c${row.join}\nwhere c.op$ = 'inserted'`,
    ),
  ];
}
