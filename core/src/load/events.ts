import type { ColumnDeclaration } from '../project/model.js';
import { ident, idents, qualified } from '../sql/quote.js';
import { historyColumns, intervalGuards, type HistoryColumns } from './history.js';
import { createKeyMaps, filledValue, keyMapsOf, numberKeys, numbersOf, surrogateMap } from './keys.js';
import { completeMembers, lastMembers } from './members.js';
import type { PolicyContext } from './policy.js';
import { analyzeChanges, CHANGES, checking, counts, dropTemporary, guard, ROWS, run, VERSIONS, type LoadStep } from './steps.js';
import { columnsOf, differ, optionOf, rememberedPlace, sameKey, stampOf, writtenColumns } from './target.js';

/** All events of keys that have new ones: read once, looked at several times. */
const TOUCHED = 'pg_temp.touched_events';

/**
 * History from events: each row says what holds from its instant on. Events are remembered beside the
 * table; keys with new ones are cut again from all of theirs, and only rows that differ are written.
 */
export function eventSteps(context: PolicyContext): LoadStep[] {
  const { target, home } = context;
  const { key, table } = target;
  const h = historyColumns(target);
  const at = optionOf(table, 'effective_from')!;
  const order = optionOf(table, 'order_within');
  const events = qualified(rememberedPlace(home, 'events'));
  const maps = keyMapsOf(target, home);
  const columns = eventColumns(context);
  const names = columns.map((c) => c.name);
  const rest = columns.filter((c) => !key.includes(c.name) && c.name !== at);
  return [
    ...createKeyMaps(maps),
    ...completeMembers(target, context, `q.${ident(at)}`),
    run('build', `create table if not exists ${events} as select ${idents(names)} from ${ROWS} with no data`),
    run('build', `create index if not exists ${ident(`${rememberedPlace(home, 'events').name}~by_key`.slice(0, 60))} on ${events} (${idents([...key, at])})`),
    run(
      'build',
      `create temp table changes on commit drop as
select distinct ${columnsOf('q', names)} from ${ROWS} as q
where not exists (select from ${events} as e where ${sameKey('e', 'q', [...key, at])} and not (${differ('e', 'q', rest)}))`,
    ),
    analyzeChanges([...key, at]),
    run('build', `insert into ${events} (${idents(names)}) select ${idents(names)} from ${CHANGES}`),
    run(
      'build',
      `create temp table touched_events on commit drop as\nselect e.* from ${events} as e where (${columnsOf('e', key)}) in (select ${idents(key)} from ${CHANGES})`,
    ),
    tieGuard(context, at, order),
    run('build', `create temp table versions on commit drop as\n${cut(context, h, at, order)}`),
    analyzeChanges([...key, h.validFrom.name], VERSIONS),
    ...keepNumbers(context, h),
    ...numberKeys(maps, VERSIONS),
    ...write(context, h),
    ...lastMembers(target, context),
    counts(CHANGES, { 'new events': 'true' }),
    ...intervalGuards(context, h),
    dropTemporary(CHANGES, TOUCHED, VERSIONS),
  ];
}

/** What is remembered of an event: all that the query says, its instant and its order included. */
function eventColumns({ target }: PolicyContext): ColumnDeclaration[] {
  const written = writtenColumns(target);
  const said = ['effective_from', 'order_within'].flatMap((name) => optionOf(target.table, name) ?? []);
  const more = said.filter((name) => !written.some((w) => w.name === name));
  return [
    ...written,
    ...more.map((name): ColumnDeclaration => ({ name, type: 'said by the query', notNull: false, options: {}, range: target.table.nameRange })),
  ];
}

function tieGuard({ target }: PolicyContext, at: string, order: string | undefined): LoadStep {
  const instant = `${columnsOf('e', target.key)}, e.${ident(at)}`;
  const rank = order === undefined ? '1' : `rank() over (partition by ${instant} order by e.${ident(order)} desc nulls last)`;
  return checking(
    'one_event_an_instant',
    guard(
      `select * from (
  select r.*, count(*) over (partition by ${columnsOf('r', [...target.key, at])}) as tied
  from (select e.*, ${rank} as place from ${TOUCHED} as e) as r where place = 1
) as first_of
where tied > 1
order by ${idents([...target.key, at])}`,
      'two events of a key say different things of one instant',
      order === undefined ? 'Name a column that orders them: order_within = ‘column’.' : `Both have the same ${order}: make it tell them apart.`,
    ),
  );
}

/** All versions of touched keys, from all of their events. */
function cut(context: PolicyContext, h: HistoryColumns, at: string, order: string | undefined): string {
  const { target } = context;
  const { key } = target;
  const byKey = `partition by ${idents(key)}`;
  const instant = ident(at);
  const starts = h.versioned.map((c) => `${ident(c.name)} is distinct from lag(${ident(c.name)}) over w`);
  const lastOf = h.overwriteAll ? idents(key) : `${idents(key)}, group_no`;
  const previous = h.previous.map((p, i) => ({
    ...p,
    changed: `case when row_number() over w > 1 and ${ident(p.of.name)} is distinct from lag(${ident(p.of.name)}) over w then 1 else 0 end as changed_${i}, lag(${ident(p.of.name)}) over w as lag_${i}`,
    group: `sum(changed_${i}) over w as change_no_${i}`,
    value: `first_value(lag_${i}) over (partition by ${idents(key)}, change_no_${i} order by ${instant})`,
  }));
  const value = (c: ColumnDeclaration): string => {
    const name = ident(c.name);
    if (h.overwritten.includes(c)) return `first_value(${name}) over (partition by ${lastOf} order by ${instant} desc) as ${name}`;
    if (h.kept.includes(c)) return `first_value(${name}) over (${byKey} order by ${instant}) as ${name}`;
    return name;
  };
  const plain = writtenColumns(target);
  const previousOut = previous.map((p, i) => {
    const scope = h.overwritten.includes(p.of) ? lastOf : `${idents(key)}, group_no`;
    return `first_value(before_${i}) over (partition by ${scope} order by ${instant} desc) as ${ident(p.name)}`;
  });
  return `with winner as (
  select distinct on (${columnsOf('e', key)}, e.${instant}) e.*
  from ${TOUCHED} as e
  order by ${columnsOf('e', key)}, e.${instant}${order === undefined ? '' : `, e.${ident(order)} desc nulls last`}
), marked as (
  select *, row_number() over w = 1${starts.map((s) => ` or ${s}`).join('')} as starts${previous.map((p) => `, ${p.changed}`).join('')}
  from winner
  window w as (${byKey} order by ${instant})
), grouped as (
  select *, count(*) filter (where starts) over w as group_no${previous.map((p) => `, ${p.group}`).join('')}
  from marked
  window w as (${byKey} order by ${instant})
), carried as (
  select *${previous.map((p, i) => `, case when change_no_${i} > 0 then ${p.value} end as before_${i}`).join('')}
  from grouped
), held as (
  select starts, ${instant} as version_from, group_no, ${[...plain.map(value), ...previousOut].join(',\n    ')}
  from carried
)
select ${[...plain.map((c) => ident(c.name)), ...h.previous.map((p) => ident(p.name))].join(', ')},
  version_from as ${ident(h.validFrom.name)},
  lead(version_from) over (${byKey} order by version_from) as ${ident(h.validTo)},
  group_no as version_no
from held
where starts`;
}

/**
 * Versions keep their numbers: those that begin at the same time by that, then those of equal versioned
 * values whose times overlap. The key map then says the new beginning.
 */
function keepNumbers({ target, own, home }: PolicyContext, h: HistoryColumns): LoadStep[] {
  const map = surrogateMap(target, home);
  if (!map || map.method === 'hash') return [];
  const { key } = target;
  const [from, to] = [ident(h.validFrom.name), ident(h.validTo)];
  const place = qualified(own);
  const moved = `select distinct on (o_from, ${idents(key)}) ${idents(key)}, o_from, n_from from (
    select distinct on (${columnsOf('n', key)}, n.${from}) ${columnsOf('n', key)}, o.${from} as o_from, n.${from} as n_from
    from ${VERSIONS} as n
    join ${place} as o on ${sameKey('o', 'n', key)} and not (${differ('o', 'n', h.versioned)})
      and o.${from} < coalesce(n.${to}, 'infinity') and n.${from} < coalesce(o.${to}, 'infinity')
    where not exists (select from ${place} as s where ${sameKey('s', 'n', key)} and s.${from} = n.${from})
      and not exists (select from ${VERSIONS} as s where ${sameKey('s', 'o', key)} and s.${from} = o.${from})
      and not exists (select from ${qualified(map.place)} as k where ${sameKey('k', 'n', key)} and k.${from} = n.${from})
    order by ${columnsOf('n', key)}, n.${from}, o.${from}
  ) as pairs
  order by o_from, ${idents(key)}, n_from`;
  return [
    run('build', `update ${qualified(map.place)} as k set ${from} = m.n_from\nfrom (${moved}) as m where ${sameKey('k', 'm', key)} and k.${from} = m.o_from`),
  ];
}

/** Removes versions that are no more, changes those that differ, adds the rest. */
function write({ target, own, home }: PolicyContext, h: HistoryColumns): LoadStep[] {
  const { key } = target;
  const place = qualified(own);
  const maps = keyMapsOf(target, home);
  const from = ident(h.validFrom.name);
  const numbers = numbersOf(maps, 'n');
  const valueOf = (c: ColumnDeclaration): string => {
    const number = numbers.of(c);
    if (number !== undefined) return number;
    if (c.name === h.current) return `n.${ident(h.validTo)} is null`;
    if (c.name === h.version) return `n.version_no`;
    const held = c === h.validFrom || c.name === h.validTo || writtenColumns(target).includes(c) || h.previous.some((p) => p.name === c.name);
    return held ? `n.${ident(c.name)}` : filledValue(target, c, valueOf);
  };
  const same = `${sameKey('t', 'n', key)} and t.${from} = n.${from}`;
  const changeable = target.columns.filter((c) => !key.includes(c.name) && c !== h.validFrom && stampOf(c) === undefined && numbers.of(c) === undefined);
  const before = changeable.map((c) => `t.${ident(c.name)}${c.type === 'json' ? '::jsonb' : ''}`).join(', ');
  const after = changeable.map((c) => `${valueOf(c)}${c.type === 'json' ? '::jsonb' : ''}`).join(', ');
  const stamps = target.columns.filter((c) => stampOf(c) !== undefined);
  const sets = [...changeable.map((c) => `${ident(c.name)} = ${valueOf(c)}`), ...stamps.map((c) => `${ident(c.name)} = ${stampOf(c)!}`)];
  return [
    run(
      'build',
      `delete from ${place} as t
where (${columnsOf('t', key)}) in (select ${idents(key)} from ${CHANGES})
  and not exists (select from ${VERSIONS} as n where ${same})`,
    ),
    run('build', `update ${place} as t set ${sets.join(', ')}\nfrom ${VERSIONS} as n\nwhere ${same} and (${before}) is distinct from (${after})`),
    run(
      'build',
      `insert into ${place} (${idents(target.columns.map((c) => c.name))})
select ${target.columns.map((c) => `${valueOf(c)} as ${ident(c.name)}`).join(', ')}
from ${VERSIONS} as n${numbers.join}
where not exists (select from ${place} as t where ${same})`,
    ),
  ];
}
