import { columnWith, hasRole } from '../language/roles.js';
import type { ColumnDeclaration } from '../model/project.js';
import { ident, idents, literal, qualified } from '../sql/quote.js';
import { filledValue, numberIn, surrogateMap, type KeyMap } from './keys.js';
import { lookUpJoin } from './look-ups.js';
import type { Place } from '../model/place.js';
import type { KeyContext } from './context.js';
import { counts, dropTemporary, ROWS, run, type LoadStep } from '../compile/steps.js';
import { columnsOf, rememberedPlace, sameKey, targetOf, type LookUp, type Target } from '../compile/target.js';

/** What a look-up reads of a row. */
const readBy = (l: LookUp): readonly string[] => [...l.by, ...(l.at === undefined ? [] : [l.at])];

/** What look-ups of a merge read of the query's rows and the table does not keep. */
export function askedColumns({ spec, columns, lookUps }: Target): readonly string[] {
  if (spec.kind !== 'merge') return [];
  return [...new Set(lookUps.flatMap(readBy))].filter((name) => !columns.some((c) => c.name === name));
}

/** The column of what was asked: it bears a name of its own where a part of the key is called so. */
const saidIn = (key: readonly string[]): string => (key.includes('said') ? 'said$' : 'said');

/** What is remembered of rows whose member is not known yet: the business key, and what they were looked up by. */
export const askedTable = ({ columns, key }: Target): { readonly name: string; readonly type: string }[] => [
  ...key.map((k) => columns.find((c) => c.name === k)!),
  { name: saidIn(key), type: 'jsonb' },
];

/**
 * Rows that the query does not return may point to a version that was cut again, to a placeholder, or to
 * nobody, while their dimension has arrived: they are looked up again, by the columns that the table keeps,
 * and by what is remembered of those that were not found.
 * @param own the table after the load's own changes
 */
export function lookUpAgain(context: KeyContext, own: Place): LoadStep[] {
  const { target, home } = context;
  if (target.lookUps.length === 0) return [];
  const missing = askedColumns(target);
  const again = lookedUpAgain(context, own, missing);
  if (missing.length === 0) return [again];
  const asked = qualified(rememberedPlace(home, 'asked'));
  const waiting = target.lookUps.filter((l) => readBy(l).some((name) => missing.includes(name)));
  const unknown = waiting.map((l) => `t.${ident(l.column.name)} = 0`).join(' or ');
  const unfound = waiting
    .map((l) => [`q.${ident(l.column.name)} = 0`, ...l.by.map((name) => `q.${ident(name)} is not null`)].join(' and '))
    .join(' or ');
  const said = `jsonb_build_object(${missing.map((name) => `${literal(name)}, q.${ident(name)}`).join(', ')})`;
  const wanted = `(select ${columnsOf('q', target.key)}, ${said} as ${saidIn(target.key)} from ${ROWS} as q join ${qualified(own)} as t on ${sameKey('t', 'q', target.key)} where ${unfound})`;
  const columns = askedTable(target);
  return [
    run(
      'build',
      `create table if not exists ${asked} (\n  ${columns.map((c) => `${ident(c.name)} ${c.type} not null`).join(',\n  ')},\n  primary key (${idents(target.key)})\n)`,
    ),
    again,
    // What the query says now counts; what has been found, or is no more, need not be asked again.
    run(
      'build',
      `delete from ${asked} as a
where not exists (select from ${qualified(own)} as t where ${sameKey('t', 'a', target.key)} and (${unknown}))
  or (exists (select from ${ROWS} as r where ${sameKey('r', 'a', target.key)}) and not exists (select from ${wanted} as w where ${sameKey('w', 'a', target.key)} and w.${saidIn(target.key)} = a.${saidIn(target.key)}))`,
    ),
    run(
      'build',
      `insert into ${asked} (${idents(columns.map((c) => c.name))})
select ${columnsOf(
        'w',
        columns.map((c) => c.name),
      )} from ${wanted} as w where not exists (select from ${asked} as a where ${sameKey('a', 'w', target.key)})`,
    ),
  ];
}

/** The key map of a dimension's numbers; undefined where they are made from the keys themselves. */
function numbersEver({ names, writable }: KeyContext, dimension: Target): KeyMap | undefined {
  const home = writable(dimension.table)?.home ?? names.placeOf(dimension.table.fullName)!;
  const map = surrogateMap(dimension, home);
  return map?.method === 'sequence' ? map : undefined;
}

function lookedUpAgain(context: KeyContext, own: Place, missing: readonly string[]): LoadStep {
  const { project, target, names, home } = context;
  const remembered: string[] = [];
  const maps: string[] = [];
  // What the table does not keep is read from what is remembered, in the type of what it is held against; else the
  // dimension's key map tells whose number it holds, since it knows every number that was ever given.
  const lookUps = target.lookUps.map((l, i): LookUp => {
    const dimension = targetOf(project, l.dimension);
    const map = readBy(l).some((name) => missing.includes(name)) ? numbersEver(context, dimension) : undefined;
    if (map)
      maps.push(`\n  left join ${qualified(map.place)} as k${i} on k${i}.${numberIn(map)} = t.${ident(l.column.name)}`);
    const from = (name: string, what: string, column: string) => {
      if (!missing.includes(name)) return name;
      const { type } = dimension.columns.find((c) => c.name === column)!;
      const said = `cast(a.${saidIn(target.key)} ->> ${literal(name)} as ${type})`;
      remembered.push(`${map ? `coalesce(${said}, k${i}.${ident(column)})` : said} as ${what}`);
      return what;
    };
    const validFrom = columnWith(dimension, 'valid from');
    const by = l.by.map((name, n) => from(name, `said_${i}_${n}$`, dimension.key[n]!));
    const at = l.at === undefined || validFrom === undefined ? l.at : from(l.at, `said_${i}_at$`, validFrom);
    return { ...l, by, ...(at === undefined ? {} : { at }) };
  });
  const joins = lookUps.map((l, i) => lookUpJoin(project, names, l, i));
  const columnNames = target.lookUps.map((l) => l.column.name);
  const found = target.lookUps.map((l, i) => {
    const value = `cast(coalesce(${joins[i]!.value}, 0) as ${l.column.type})`;
    const name = ident(l.column.name);
    if (!readBy(l).some((n) => missing.includes(n))) return `${value} as ${name}`;
    const dimension = targetOf(project, l.dimension);
    const isGone = `not exists (select from ${qualified(names.placeOf(l.dimension.fullName)!)} as x where x.${ident(columnWith(dimension, 'surrogate key')!)} = q.${name})`;
    return `case when q.${name} = 0 or ${isGone} then ${value} else q.${name} end as ${name}`;
  });
  const rows = remembered.length
    ? `(select t.*, t.ctid as row_id$, ${remembered.join(', ')} from ${qualified(own)} as t left join ${qualified(rememberedPlace(home, 'asked'))} as a on ${sameKey('a', 't', target.key)}${maps.join('')})`
    : `(select *, ctid as row_id$ from ${qualified(own)})`;
  const sets = columnNames.map((name) => `${ident(name)} = n.${ident(name)}`);
  const after = (c: ColumnDeclaration) => `${columnNames.includes(c.name) ? 'n' : 't'}.${ident(c.name)}`;
  const hashes = target.columns
    .filter((c) => hasRole(c, 'row hash'))
    .map((c) => `${ident(c.name)} = ${filledValue(target, c, after)}`);
  return {
    step: 'when',
    sql: `select (select count(*) from ${qualified(own)}) > (select count(*) from ${ROWS}) as needed`,
    steps: [
      run(
        'build',
        `create temp table looked_up on commit drop as
select * from (
  select q.row_id$, ${columnNames.map((name, i) => `q.${ident(name)} as before_${i}$`).join(', ')}, ${found.join(', ')}
  from ${rows} as q${joins.map((j) => j.sql).join('')}
  where not exists (select from ${ROWS} as r where ${sameKey('r', 'q', target.key)})
) as n
where (${columnNames.map((_, i) => `before_${i}$`).join(', ')}) is distinct from (${idents(columnNames)})`,
      ),
      run(
        'build',
        `update ${qualified(own)} as t set ${[...sets, ...hashes].join(', ')}\nfrom pg_temp.looked_up as n where t.ctid = n.row_id$`,
      ),
      counts('pg_temp.looked_up', { 'looked up again': 'true' }),
      dropTemporary('pg_temp.looked_up'),
    ],
  };
}
