import type { ColumnDeclaration } from '../../model/project.js';
import { CHANGES, checking, guard, together } from '../../compile/steps.js';
import { ident, qualified, idents } from '../../sql/quote.js';
import { columnsOf, rememberedPlace, comparable, writtenColumns } from '../../compile/target.js';
import type { LoadStep } from '../../compile/steps.js';
import type { HistoryColumns } from '../policy/versions.js';
import type { EventsSpec } from '../../language/spec.js';
import type { PolicyContext } from '../policy/context.js';
/**
 * What has to hold of versions that were cut. Each ends where the next of its key begins, so that an empty one is
 * the only one that can overlap another: two events of one instant make it.
 */
export function cutGuards(
  { target, home, spec }: PolicyContext<EventsSpec>,
  h: HistoryColumns,
  at: string,
  versions: string,
): LoadStep[] {
  const { key } = target;
  const order = spec.orderWithin;
  const instant = columnsOf('e', [...key, at]);
  const rank =
    order === undefined ? '1' : `rank() over (partition by ${instant} order by e.${ident(order)} desc nulls last)`;
  const ofInstants = `select e.*, ${rank} as place$ from ${qualified(rememberedPlace(home, 'events'))} as e where (${instant}) in (select ${idents([...key, at])} from ${CHANGES})`;
  const tie = checking(
    'one_event_an_instant',
    guard(
      `select * from (
  select r.*, count(*) over (partition by ${columnsOf('r', [...key, at])}) as tied$
  from (${ofInstants}) as r where place$ = 1
) as first_of
where tied$ > 1
order by ${idents([...key, at])}`,
      'two events of a key disagree about one instant',
      `${order === undefined ? 'Name a column that orders them: order_within = ‘column’.' : `Both have the same ${order}: make it tell them apart.`} Where the query tells old events in a new way, start the table over.`,
    ),
  );
  const empty = `select * from ${versions} as v where v.${ident(h.validTo)} <= v.${ident(h.validFrom.name)}`;
  const overlap = checking(
    'versions_do_not_overlap',
    guard(empty, 'two versions of a key overlap', 'Check its stored events.'),
  );
  return order === undefined ? [together(empty, [tie, overlap])] : [tie, overlap];
}

/**
 * The query of all versions of keys with new events, from all of their events. Of two events of one instant that no
 * column orders, both make a version, so that the guards find them.
 */
export function cut(context: PolicyContext<EventsSpec>, h: HistoryColumns, at: string): string {
  const { target, home, spec } = context;
  const { key } = target;
  const order = spec.orderWithin;
  const byKey = `partition by ${idents(key)}`;
  const instant = ident(at);
  const changes = (c: ColumnDeclaration) =>
    `${comparable(ident(c.name), c)} is distinct from ${comparable(`lag(${ident(c.name)}) over w`, c)}`;
  const window = `\n  window w as (${byKey} order by ${instant})`;
  const events = `${qualified(rememberedPlace(home, 'events'))} as e`;
  const touched = context.recut
    ? events
    : `${events}\n  where (${columnsOf('e', key)}) in (select ${idents(key)} from ${CHANGES})`;
  const begins = [
    'row_number() over w = 1',
    ...h.versioned.map(changes),
    ...(order === undefined ? [`${instant} = lag(${instant}) over w`] : []),
  ];
  const overwrites = h.overwritten.length > 0;
  const lastOf = h.overwriteAll ? idents(key) : `${idents(key)}, group_no$`;
  const previous = h.previous.map((p, i) => ({
    ...p,
    changed: `case when row_number() over w > 1 and ${changes(p.of)} then 1 else 0 end as changed_${i}$, lag(${ident(p.of.name)}) over w as lag_${i}$`,
    group: `sum(changed_${i}$) over w as change_no_${i}$`,
    value: `first_value(lag_${i}$) over (partition by ${idents(key)}, change_no_${i}$ order by ${instant})`,
  }));
  const value = (c: ColumnDeclaration): string => {
    const name = ident(c.name);
    if (h.overwritten.includes(c))
      return `first_value(${name}) over (partition by ${lastOf} order by ${instant} desc) as ${name}`;
    if (h.kept.includes(c)) return `first_value(${name}) over (${byKey} order by ${instant}) as ${name}`;
    return name;
  };
  const plain = writtenColumns(target);
  const previousOut = previous.map((p, i) => {
    const scope = h.overwritten.includes(p.of) ? lastOf : `${idents(key)}, group_no$`;
    return `first_value(before_${i}$) over (partition by ${scope} order by ${instant} desc) as ${ident(p.name)}`;
  });
  const grouped = h.version !== undefined || overwrites || previous.length > 0;
  const stages: [name: string, query: (from: string) => string][] = [
    order === undefined
      ? ['touched', () => `select * from ${touched}`]
      : [
          'touched',
          () =>
            `select distinct on (${columnsOf('e', [...key, at])}) e.*\n  from ${touched}\n  order by ${columnsOf('e', [...key, at])}, e.${ident(order)} desc nulls last`,
        ],
    [
      'marked',
      (from) =>
        `select *, ${begins.join(' or ')} as starts$${previous.map((p) => `, ${p.changed}`).join('')}\n  from ${from}${window}`,
    ],
    ...(grouped
      ? [
          [
            'grouped',
            (from: string) =>
              `select *, count(*) filter (where starts$) over w as group_no$${previous.map((p) => `, ${p.group}`).join('')}\n  from ${from}${window}`,
          ] as [string, (from: string) => string],
        ]
      : []),
    ...(previous.length
      ? [
          [
            'carried',
            (from: string) =>
              `select *${previous.map((p, i) => `, case when change_no_${i}$ > 0 then ${p.value} end as before_${i}$`).join('')}\n  from ${from}`,
          ] as [string, (from: string) => string],
        ]
      : []),
    [
      'held',
      (from) =>
        `select starts$, ${instant} as version_from$, ${grouped ? 'group_no$, ' : ''}${[...plain.map(value), ...previousOut].join(',\n    ')}\n  from ${from}`,
    ],
  ];
  return `with ${stages.map(([name, query], i) => `${name} as (\n  ${query(stages[i - 1]?.[0] ?? '')}\n)`).join(', ')}
select ${[...plain.map((c) => ident(c.name)), ...h.previous.map((p) => ident(p.name))].join(', ')},
  version_from$ as ${ident(h.validFrom.name)},
  lead(version_from$) over (${byKey} order by version_from$) as ${ident(h.validTo)}${grouped ? ',\n  group_no$ as version_no$' : ''}
from held
where starts$`;
}
