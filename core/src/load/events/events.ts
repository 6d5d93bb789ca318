import { cutGuards, cut } from './cut.js';
import type { EventsSpec } from '../../language/spec.js';
import type { ColumnDeclaration } from '../../model/project.js';
import { boundedName, ident, idents, qualified } from '../../sql/quote.js';
import { historyColumns, type HistoryColumns } from '../policy/versions.js';
import {
  createKeyMaps,
  filledValue,
  keyMapsOf,
  numberKeys,
  numbersOf,
  surrogateMap,
  type RowNumbers,
} from '../../keys/keys.js';
import { completeMembers, lastMembers } from '../../keys/members.js';
import type { Place } from '../../model/place.js';
import type { PolicyContext } from '../policy/context.js';
import { sampledChanges, shapeSteps } from '../policy/shape.js';
import {
  analyzeChanges,
  CHANGES,
  counts,
  dropTemporary,
  ROWS,
  run,
  unchangedRows,
  VERSIONS,
  type LoadStep,
} from '../../compile/steps.js';
import {
  columnsOf,
  comparable,
  comparableColumns,
  differ,
  rememberedPlace,
  sameKey,
  stampOf,
  storage,
  writtenColumns,
  type Target,
} from '../../compile/target.js';

/** Above this share of rows of keys that are cut again, writing all of them again is faster: measured. */
const REWRITE_SHARE = 0.3;

/**
 * History from events: each row says what holds from its instant on. Events are remembered beside the
 * table; keys with new ones are cut again from all of theirs, and all keys where the contract may have changed.
 */
export function eventSteps(context: PolicyContext<EventsSpec>): LoadStep[] {
  const { target, home, spec } = context;
  const { key } = target;
  const h = historyColumns(target, spec, { corrects: false });
  const at = spec.effectiveFrom;
  const events = qualified(rememberedPlace(home, 'events'));
  const maps = keyMapsOf(target, home);
  const columns = eventColumns(context);
  const names = columns.map((c) => c.name);
  const rest = columns.filter((c) => !key.includes(c.name) && c.name !== at);
  // Distinct rows by columns are sorted, whole ones may be hashed.
  const distinct = columns.some((c) => c.type === 'json')
    ? `distinct on (${comparableColumns('q', columns)})`
    : 'distinct';
  const replaces = replacesVersions(target);
  const versions = [
    run('build', `create temp table versions on commit drop as\n${cut(context, h, at)}`),
    analyzeChanges([...key, h.validFrom.name], VERSIONS),
    ...cutGuards(context, h, at, VERSIONS),
  ];
  // Numbers are found for versions that are there; without them, a table that is rewritten needs none beside itself.
  const first =
    maps.length > 0
      ? [...versions, ...keepNumbers(context, h), ...numberKeys(maps, VERSIONS)]
      : replaces
        ? []
        : versions;
  const inPlace = [
    ...(first.length ? [] : versions),
    ...(replaces ? replace(context, h) : writeDifferences(context, h)),
    ...lastMembers(target, context),
  ];
  const rewrite = (staged: Place): LoadStep[] => [
    rewritten(context, staged, h, first.length ? VERSIONS : `(\n${cut(context, h, at)}\n)`),
    ...(first.length ? [] : cutGuards(context, h, at, qualified(staged))),
    ...lastMembers(target, { own: staged, home }),
  ];
  return [
    ...createKeyMaps(maps),
    ...completeMembers(target, context, `q.${ident(at)}`),
    run('build', `create table if not exists ${events} as select ${idents(names)} from ${ROWS} with no data`),
    run(
      'build',
      `create index if not exists ${ident(boundedName(home.name, '~events~by_key'))} on ${events} (${idents([...key, at])})`,
    ),
    ...fillAdded(context, columns, at),
    run(
      'build',
      `create temp table changes on commit drop as
select ${distinct} ${columnsOf('q', names)} from ${ROWS} as q
where not exists (select from ${events} as e where ${sameKey('e', 'q', [...key, at])} and not (${differ('e', 'q', rest)}))`,
    ),
    analyzeChanges([...key, at]),
    run('build', `insert into ${events} (${idents(names)}) select ${idents(names)} from ${CHANGES}`),
    ...first,
    ...(replaces
      ? shapeSteps(context, { amount: touchedRows(context), share: REWRITE_SHARE, inPlace, rewrite })
      : inPlace),
    counts(CHANGES, { 'new events': 'true' }, unchangedRows('true')),
    dropTemporary(CHANGES, VERSIONS),
  ];
}

/** What names the keys that are cut again: the new events, or all of them. */
const touchedIn = ({ recut, home }: PolicyContext): string =>
  recut ? qualified(rememberedPlace(home, 'events')) : CHANGES;

/** Events that the query tells again tell what they hold in columns that it was not asked for before. */
function fillAdded(
  { target, home, recut }: PolicyContext,
  columns: readonly ColumnDeclaration[],
  at: string,
): LoadStep[] {
  const added = columns.filter((c) => recut?.added.includes(c.name));
  if (added.length === 0) return [];
  const known = columns.filter((c) => !added.includes(c) && !target.key.includes(c.name) && c.name !== at);
  return [
    run(
      'build',
      `update ${qualified(rememberedPlace(home, 'events'))} as e set ${added.map((c) => `${ident(c.name)} = q.${ident(c.name)}`).join(', ')}
from ${ROWS} as q where ${sameKey('e', 'q', [...target.key, at])} and not (${differ('e', 'q', known)})`,
    ),
  ];
}

/** What is remembered of an event: all that the query says, its instant and its order included. */
function eventColumns({ target, spec }: PolicyContext<EventsSpec>): ColumnDeclaration[] {
  const written = writtenColumns(target);
  const said = [spec.effectiveFrom, ...(spec.orderWithin === undefined ? [] : [spec.orderWithin])];
  const more = said.filter((name) => !written.some((w) => w.name === name));
  return [
    ...written,
    ...more.map((name): ColumnDeclaration => ({
      name,
      type: 'said by the query',
      notNull: false,
      options: {},
      range: target.table.nameRange,
    })),
  ];
}

/** About how many rows of the table are of keys with new events. The sample is small, so that the changes are only read, not hashed. */
const touchedRows = ({ target, own }: PolicyContext): string =>
  sampledChanges(own, (sample) => {
    const touched = `select distinct ${columnsOf('c', target.key)} from ${CHANGES} as c where (${columnsOf('c', target.key)}) in (select ${idents(target.key)} from ${sample} as s)`;
    return `select 'touched' as op$ from ${sample} as t join (${touched}) as c on ${sameKey('c', 't', target.key)}`;
  });

/** Whether versions that stay the same may be written again: they look the same, and hold no column that the query no longer has. */
export const replacesVersions = ({ spec, columns }: Pick<Target, 'spec' | 'columns'>): boolean =>
  !spec.addsDrift && columns.every((c) => stampOf(c) === undefined);

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
  const moved = `select distinct on (o_from$, ${idents(key)}) ${idents(key)}, o_from$, n_from$ from (
    select distinct on (${columnsOf('n', key)}, n.${from}) ${columnsOf('n', key)}, o.${from} as o_from$, n.${from} as n_from$
    from ${VERSIONS} as n
    join ${place} as o on ${sameKey('o', 'n', key)} and not (${differ('o', 'n', h.versioned)})
      and o.${from} < coalesce(n.${to}, 'infinity') and n.${from} < coalesce(o.${to}, 'infinity')
    where not exists (select from ${place} as s where ${sameKey('s', 'n', key)} and s.${from} = n.${from})
      and not exists (select from ${VERSIONS} as s where ${sameKey('s', 'o', key)} and s.${from} = o.${from})
      and not exists (select from ${qualified(map.place)} as k where ${sameKey('k', 'n', key)} and k.${from} = n.${from})
    order by ${columnsOf('n', key)}, n.${from}, o.${from}
  ) as pairs
  order by o_from$, ${idents(key)}, n_from$`;
  return [
    run(
      'build',
      `update ${qualified(map.place)} as k set ${from} = m.n_from$\nfrom (${moved}) as m where ${sameKey('k', 'm', key)} and k.${from} = m.o_from$`,
    ),
  ];
}

/** What a version holds, read from a row `n` of the versions that were cut, and the joins of its numbers. */
function versionRow(
  { target, home }: PolicyContext,
  h: HistoryColumns,
): { valueOf: (c: ColumnDeclaration) => string; items: string; numbers: RowNumbers } {
  const numbers = numbersOf(keyMapsOf(target, home), 'n');
  const valueOf = (c: ColumnDeclaration): string => {
    const number = numbers.of(c);
    if (number !== undefined) return number;
    if (c.name === h.current) return `n.${ident(h.validTo)} is null`;
    if (c.name === h.version) return `n.version_no$`;
    const held =
      c === h.validFrom ||
      c.name === h.validTo ||
      writtenColumns(target).includes(c) ||
      h.previous.some((p) => p.name === c.name);
    return held ? `n.${ident(c.name)}` : filledValue(target, c, valueOf);
  };
  return { valueOf, items: target.columns.map((c) => `${valueOf(c)} as ${ident(c.name)}`).join(', '), numbers };
}

/** Versions of keys with new events make room for those that were cut. */
function replace(context: PolicyContext, h: HistoryColumns): LoadStep[] {
  const { target, own } = context;
  const place = qualified(own);
  const { items, numbers } = versionRow(context, h);
  return [
    run(
      'build',
      `delete from ${place} as t where (${columnsOf('t', target.key)}) in (select ${idents(target.key)} from ${touchedIn(context)})`,
    ),
    run(
      'build',
      `insert into ${place} (${idents(target.columns.map((c) => c.name))})\nselect ${items}\nfrom ${VERSIONS} as n${numbers.join}`,
    ),
  ];
}

/** The same as a table beside. @param versions what was cut */
function rewritten(context: PolicyContext, staged: Place, h: HistoryColumns, versions: string): LoadStep {
  const { target, own } = context;
  const { items, numbers } = versionRow(context, h);
  return run(
    'build',
    `create table ${qualified(staged)}${storage(target.table)} as
select ${items}
from ${versions} as n${numbers.join}
union all
select ${columnsOf(
      't',
      target.columns.map((c) => c.name),
    )}
from ${qualified(own)} as t where not exists (select from ${touchedIn(context)} as c where ${sameKey('c', 't', target.key)})`,
  );
}

/** Removes versions that are no more, changes those that differ, adds the rest. */
function writeDifferences(context: PolicyContext, h: HistoryColumns): LoadStep[] {
  const { target, own } = context;
  const { key } = target;
  const place = qualified(own);
  const from = ident(h.validFrom.name);
  const { valueOf, items, numbers } = versionRow(context, h);
  const same = `${sameKey('t', 'n', key)} and t.${from} = n.${from}`;
  const changeable = target.columns.filter(
    (c) => !key.includes(c.name) && c !== h.validFrom && stampOf(c) === undefined && numbers.of(c) === undefined,
  );
  const before = comparableColumns('t', changeable);
  const after = changeable.map((c) => comparable(valueOf(c), c)).join(', ');
  const stamps = target.columns.filter((c) => stampOf(c) !== undefined);
  const sets = [
    ...changeable.map((c) => `${ident(c.name)} = ${valueOf(c)}`),
    ...stamps.map((c) => `${ident(c.name)} = ${stampOf(c)!}`),
  ];
  return [
    run(
      'build',
      `delete from ${place} as t
where (${columnsOf('t', key)}) in (select ${idents(key)} from ${touchedIn(context)})
  and not exists (select from ${VERSIONS} as n where ${same})`,
    ),
    run(
      'build',
      `update ${place} as t set ${sets.join(', ')}\nfrom ${VERSIONS} as n\nwhere ${same} and (${before}) is distinct from (${after})`,
    ),
    run(
      'build',
      `insert into ${place} (${idents(target.columns.map((c) => c.name))})
select ${items}
from ${VERSIONS} as n${numbers.join}
where not exists (select from ${place} as t where ${same})`,
    ),
  ];
}
