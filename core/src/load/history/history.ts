import { hasRole } from '../../language/roles.js';
import type { HistorySpec } from '../../language/spec.js';
import { historyColumns } from '../policy/versions.js';
import type { HistoryColumns } from '../policy/versions.js';
import type { ColumnDeclaration } from '../../model/project.js';
import { ident, idents, qualified } from '../../sql/quote.js';
import type { PolicyContext } from '../policy/context.js';
import { createKeyMaps, filledValue, keyMapsOf, numberKeys, numbersOf } from '../../keys/keys.js';
import { completeMembers, knownRows, lastMembers } from '../../keys/members.js';
import type { Place } from '../../model/place.js';
import { countedChanges, shapeSteps } from '../policy/shape.js';
import { lossGuard } from '../policy/loss-guard.js';
import {
  analyzeChanges,
  byPlace,
  CHANGES,
  checking,
  counts,
  dropTemporary,
  guard,
  inOrderOfPlace,
  ROWS,
  run,
  together,
  unchangedRows,
  type LoadStep,
} from '../../compile/steps.js';
import { columnsOf, differ, loadTime, sameKey, sortsFast, storage, writtenColumns } from '../../compile/target.js';

/** Above this share of changed rows, writing all of them again is faster: measured. */
const REWRITE_SHARE = 0.3;

const CHANGED_BY_OTHERS = 'The table was changed by something other than its loads: start it over, or fix the rows.';

/** Versions of keys as the query says them at the load's time. */
export function historySteps(context: PolicyContext<HistorySpec>): LoadStep[] {
  const { target, own, home, spec } = context;
  const { key } = target;
  const h = historyColumns(target, spec, context);
  const place = qualified(own);
  const now = loadTime(h.validFrom);
  const names = writtenColumns(target).map((c) => c.name);
  const closes = spec.missingRows === 'close';
  const validFrom = ident(h.validFrom.name);
  const op = `case
    when q.${ident(key[0]!)} is null then ${closes ? "'gone'" : 'null'}
    when t.row_id$ is null then 'new'
    when ${differ('t', 'q', h.versioned)} then 'changed'
    when ${differ('t', 'q', h.overwritten)} then 'overwritten'
  end`;
  const old = [...h.kept.map((c) => c.name)];
  const changes = `create temp table changes on commit drop as
select * from (
  select ${names.map((n) => (closes && key.includes(n) ? `coalesce(q.${ident(n)}, t.${ident(n)}) as ${ident(n)}` : `q.${ident(n)}`)).join(', ')}, t.row_id$, t.${validFrom} as old_from$, ${old.map((c, i) => `t.${ident(c)} as kept_${i}$, `).join('')}${op} as op$
  from ${ROWS} as q
  ${closes ? 'full' : 'left'} join (select * from ${knownRows(target, context)} as k where k.${ident(h.validTo)} is null) as t on ${sameKey('q', 't', key)}
) as found
where op$ is not null`;
  const closed = [`${ident(h.validTo)} = ${now}`, ...(h.current === undefined ? [] : [`${ident(h.current)} = false`])];
  const ends = "op$ in ('changed', 'gone')";
  const maps = keyMapsOf(target, home);
  const overlapping = (shown: string) => `select ${shown}
from ${place} as t join ${CHANGES} as c on ${sameKey('t', 'c', key)}
where t.${ident(h.validTo)} is not null and (t.${ident(h.validTo)} > coalesce(c.old_from$, ${now}) or t.${ident(h.validTo)} <= t.${validFrom})`;
  const open = "c.op$ in ('changed', 'overwritten')";
  const keys = sortsFast(target, key)
    ? `count(distinct ${columnsOf('c', key)}) filter (where ${open})`
    : `(select count(*) from (select from ${CHANGES} as c where ${open} group by ${columnsOf('c', key)}) as keyed)`;
  return [
    ...createKeyMaps(maps),
    ...completeMembers(target, context, now),
    run('build', changes),
    analyzeChanges([...key, 'row_id$', 'op$', 'old_from$']),
    // Each open version of a key makes a row of changes; what is closed ended before the open version began.
    together(
      `select 'versions' as problem from (
  select count(*) filter (where c.old_from$ > ${now}) as later, count(*) filter (where ${open}) as versions, ${keys} as keys from ${CHANGES} as c
) as counted where later > 0 or keys < versions
union all
select 'overlap' where exists (${overlapping(columnsOf('t', key))})`,
      [
        guard(
          `select * from ${CHANGES} where old_from$ > ${now}`,
          'the table holds versions that begin after this load’s time',
          'Load it at a later time, or start it over.',
        ),
        ...[
          guard(
            `select ${columnsOf('c', key)}, count(*) as open_versions from ${CHANGES} as c where ${open} group by ${columnsOf('c', key)} having count(*) > 1`,
            'a key has two open versions',
            CHANGED_BY_OTHERS,
          ),
          guard(overlapping('t.*'), 'two versions of a key overlap', CHANGED_BY_OTHERS),
        ].map((g) => checking('versions_do_not_overlap', g)),
      ],
    ),
    ...lossGuard(context, CHANGES, "op$ = 'gone'", `k.${ident(h.validTo)} is null`),
    ...numberKeys(
      maps,
      `(select ${idents(key)}, ${now} as ${validFrom} from ${CHANGES} where op$ in ('new', 'changed'))`,
    ),
    ...shapeSteps(context, {
      amount: countedChanges(CHANGES),
      share: REWRITE_SHARE,
      inPlace: [
        ...byPlace([
          run(
            'build',
            `delete from ${place} as t using ${inOrderOfPlace(`${ends} and old_from$ = ${now}`)} as c where t.ctid = c.row_id$`,
          ),
          run(
            'build',
            `update ${place} as t set ${closed.join(', ')}\nfrom ${inOrderOfPlace(`${ends} and old_from$ < ${now}`)} as c where t.ctid = c.row_id$`,
          ),
        ]),
        ...overwrite(context, h),
        run(
          'build',
          `insert into ${place} (${idents(target.columns.map((c) => c.name))})\n${newVersions(context, h, now)}`,
        ),
        ...lastMembers(target, context),
      ],
      rewrite: (staged) => [rewritten(context, staged, h, now), ...lastMembers(target, { own: staged, home })],
    }),
    counts(
      CHANGES,
      { 'new versions': "op$ in ('new', 'changed')", closed: ends, overwritten: "op$ = 'overwritten'" },
      unchangedRows("op$ <> 'gone'", sortsFast(target, key) ? 'remembered' : 'to be counted'),
    ),
    dropTemporary(CHANGES),
  ];
}

/** All versions, with the changes, as a table beside: the same as changing the table in its place. */
function rewritten(context: PolicyContext, staged: Place, h: HistoryColumns, now: string): LoadStep {
  const { target, own, corrects } = context;
  const perKey = h.overwriteAll && h.overwritten.length > 0;
  const ofRow = perKey ? 'c.row_id$ = t.ctid' : 'c.row_id$ is not null';
  const closes = h.overwritten.length > 0 ? `${ofRow} and c.op$ in ('changed', 'gone')` : ofRow;
  const overwrites = perKey
    ? `c.op$ in ('new', 'changed', 'overwritten') and ${differ('t', 'c', h.overwritten)}`
    : "c.op$ = 'overwritten'";
  const after = (c: ColumnDeclaration) => `${h.overwritten.includes(c) ? 'c' : 't'}.${ident(c.name)}`;
  const items = target.columns.map((c) => {
    const name = ident(c.name);
    const either = (condition: string, value: string) =>
      `case when ${condition} then ${value} else t.${name} end as ${name}`;
    if (c.name === h.validTo) return either(closes, now);
    if (c.name === h.current) return either(closes, 'false');
    if (h.overwritten.includes(c)) return either(overwrites, `c.${name}`);
    const previous = corrects ? undefined : h.previous.find((p) => p.name === c.name && h.overwritten.includes(p.of));
    if (previous) return either(`${overwrites} and ${differ('t', 'c', [previous.of])}`, `t.${ident(previous.of.name)}`);
    return hasRole(c, 'row hash') && h.overwritten.length
      ? either(overwrites, filledValue(target, c, after))
      : `t.${name}`;
  });
  return run(
    'build',
    `create table ${qualified(staged)}${storage(target.table)} as
select ${items.join(',\n       ')}
from ${qualified(own)} as t left join ${CHANGES} as c on ${perKey ? sameKey('t', 'c', target.key) : 'c.row_id$ = t.ctid'}
where (${closes} and c.old_from$ = ${now}) is not true
union all
${newVersions(context, h, now, `where (c.row_id$ = t.row_id$ and c.op$ in ('changed', 'gone') and c.old_from$ = ${now}) is not true`)}`,
  );
}

/** Overwritten columns take the query's value: in all versions of the key, or in the current one. */
function overwrite({ target, own, corrects }: PolicyContext, h: HistoryColumns): LoadStep[] {
  if (h.overwritten.length === 0) return [];
  const sets = h.overwritten.map((c) => `${ident(c.name)} = c.${ident(c.name)}`);
  const before = h.previous
    .filter((p) => !corrects && h.overwritten.includes(p.of))
    .map(
      (p) =>
        `${ident(p.name)} = case when ${differ('t', 'c', [p.of])} then t.${ident(p.of.name)} else t.${ident(p.name)} end`,
    );
  const which = h.overwriteAll
    ? `${sameKey('t', 'c', target.key)} and c.op$ in ('new', 'changed', 'overwritten') and ${differ('t', 'c', h.overwritten)}`
    : `t.ctid = c.row_id$ and c.op$ = 'overwritten'`;
  const after = (c: ColumnDeclaration) => `${h.overwritten.includes(c) ? 'c' : 't'}.${ident(c.name)}`;
  const hashes = target.columns
    .filter((c) => hasRole(c, 'row hash'))
    .map((c) => `${ident(c.name)} = ${filledValue(target, c, after)}`);
  return [
    run(
      'build',
      `update ${qualified(own)} as t set ${[...sets, ...before, ...hashes].join(', ')}\nfrom ${CHANGES} as c where ${which}`,
    ),
  ];
}

/** The select of the versions that begin now. @param still which versions are still there, where those that go have not gone yet */
function newVersions(context: PolicyContext, h: HistoryColumns, now: string, still = ''): string {
  const { target, home } = context;
  const numbers = numbersOf(keyMapsOf(target, home), 'c', (part) =>
    part === h.validFrom.name ? now : `c.${ident(part)}`,
  );
  const written = writtenColumns(target);
  const valueOf = (c: ColumnDeclaration): string => {
    const name = ident(c.name);
    const number = numbers.of(c);
    if (number !== undefined) return number;
    if (c === h.validFrom) return now;
    if (c.name === h.validTo) return `cast(null as ${c.type})`;
    if (c.name === h.current) return 'true';
    if (c.name === h.version) return `coalesce(prior.${name}, 0) + 1`;
    const kept = h.kept.indexOf(c);
    if (kept >= 0)
      return `case when prior.row_id$ is not null then prior.${name} when c.row_id$ is not null then c.kept_${kept}$ else c.${name} end`;
    const previous = h.previous.find((p) => p.name === c.name);
    if (previous) {
      const of = ident(previous.of.name);
      return `case when prior.row_id$ is null then null when ${differ('prior', 'c', [previous.of])} then prior.${of} else prior.${name} end`;
    }
    if (written.includes(c)) return `c.${name}`;
    return filledValue(target, c, valueOf);
  };
  const looksBack = h.kept.length > 0 || h.previous.length > 0 || h.version !== undefined;
  const prior = `select distinct on (${columnsOf('t', target.key)}) t.*
  from ${knownRows(target, context)} as t join ${CHANGES} as c on ${sameKey('t', 'c', target.key)} and c.op$ in ('new', 'changed')${still && `\n  ${still}`}
  order by ${columnsOf('t', target.key)}, t.${ident(h.validFrom.name)} desc`;
  return `select ${target.columns.map((c) => `${valueOf(c)} as ${ident(c.name)}`).join(', ')}
from ${CHANGES} as c${looksBack ? `\nleft join (${prior}) as prior on ${sameKey('prior', 'c', target.key)}` : ''}${numbers.join}
where c.op$ in ('new', 'changed')`;
}
