import { columnWith } from '../language/roles.js';
import { ident, idents, qualified } from '../sql/quote.js';
import type { Project } from '../model/project.js';
import type { Names } from '../compile/compile.js';
import { inlinedName } from '../compile/inlined-name.js';
import { readsDirectly } from './direct.js';
import type { KeyContext } from './context.js';
import { checking, counts, dropTemporary, guard, RAW_ROWS, ROWS, run, type LoadStep } from '../compile/steps.js';
import type { Place } from '../model/place.js';
import {
  columnsOf,
  rememberedPlace,
  sameKey,
  targetOf,
  tellsEarly,
  type LookUp,
  type Target,
} from '../compile/target.js';

import { inferMembers } from './members.js';

/**
 * Puts the keys of dimensions to the query's rows: a plain join on the business key, with the validity
 * as a join filter where the time decides. Keys that are not found are 0, the unknown member's.
 */
export function lookUpSteps(context: KeyContext): LoadStep[] {
  const { target } = context;
  const joins = target.lookUps.map((l, i) => lookUpJoin(context.project, context.names, l, i));
  const own = [...target.given.map((c) => c.name), ...target.extra];
  const items = [
    ...own.map((name) => `q.${ident(name)}`),
    ...target.lookUps.map(
      (l, i) => `cast(coalesce(${joins[i]!.value}, 0) as ${l.column.type}) as ${ident(l.column.name)}`,
    ),
    ...target.lookUps.flatMap((_, i) =>
      joins[i]!.early === undefined ? [] : [`${joins[i]!.early} as before_first_${i}$`],
    ),
  ];
  const direct = readsDirectly(context);
  return [
    ...inferring(context).flatMap(({ dimension, places, lookUps }) =>
      inferMembers(dimension, places, wantedKeys(dimension, lookUps)),
    ),
    run(
      'build',
      `create temp ${direct ? 'view query_rows' : 'table query_rows on commit drop'} as\nselect ${items.join(',\n       ')}\nfrom ${RAW_ROWS} as q${joins.map((j) => j.sql).join('')}`,
    ),
    ...(direct ? [] : [...lookUpChecks(context, ROWS), dropTemporary(RAW_ROWS)]),
  ];
}

/** That looking up lost and multiplied no row, and what it found. @param rows the rows with their keys */
export function lookUpChecks(context: KeyContext, rows: string): LoadStep[] {
  const { target } = context;
  if (target.lookUps.length === 0) return [];
  return [
    checking(
      'look_ups_keep_rows',
      guard(
        `select * from (select (select count(*) from ${RAW_ROWS}) as rows_of_the_query, (select count(*) from ${rows}) as rows_with_keys offset 0) as counted where rows_of_the_query <> rows_with_keys`,
        'looking up keys multiplied rows',
        'A dimension holds overlapping versions of a key: look at its checks.',
      ),
    ),
    ...target.lookUps.filter((l) => l.missing === 'stop').map((l) => stopGuard(l)),
    counts(
      rows,
      Object.fromEntries(
        target.lookUps.flatMap((l, i) => [
          [`${l.column.name} unknown`, `${ident(l.column.name)} = 0`],
          ...(tellsEarly(l) ? [[`${l.column.name} before the first version`, `before_first_${i}$`]] : []),
        ]),
      ),
    ),
    ...inferring(context).flatMap(({ dimension, places, lookUps }) =>
      lookUps.map((l) => inferredCount(dimension, places, l)),
    ),
  ];
}

/** A dimension in which this load makes placeholders, and the look-ups that ask for it. */
interface Inferring {
  readonly dimension: Target;
  readonly places: { readonly own: Place; readonly home: Place };
  readonly lookUps: readonly LookUp[];
}

/** By name, so that two loads lock dimensions in the same order. */
function inferring({ project, target, writable, hashingOf }: KeyContext): Inferring[] {
  const asking = target.lookUps.filter((l) => l.missing === 'infer');
  const dimensions = [...new Set(asking.map((l) => l.dimension))].sort((a, b) => (a.fullName < b.fullName ? -1 : 1));
  return dimensions.flatMap((dimension) => {
    const places = writable(dimension);
    return places
      ? [
          {
            dimension: targetOf(project, dimension, hashingOf(dimension.fullName)),
            places,
            lookUps: asking.filter((l) => l.dimension === dimension),
          },
        ]
      : [];
  });
}

/** The keys that the query's rows ask for, of all roles. */
function wantedKeys(dimension: Target, lookUps: readonly LookUp[]): string {
  const of = (l: LookUp) => {
    const items = l.by.map((by, n) => {
      const key = dimension.columns.find((c) => c.name === dimension.key[n])!;
      return `cast(q.${ident(by)} as ${key.type}) as ${ident(key.name)}`;
    });
    return `select ${items.join(', ')} from ${RAW_ROWS} as q where ${l.by.map((by) => `q.${ident(by)} is not null`).join(' and ')}`;
  };
  return lookUps.map(of).join(' union ');
}

/** How many of the query's rows point to placeholders. */
function inferredCount(dimension: Target, { own, home }: Inferring['places'], { column }: LookUp): LoadStep {
  const surrogate = ident(columnWith(dimension, 'surrogate key')!);
  const placeholders = `select t.${surrogate} from ${qualified(own)} as t join ${qualified(rememberedPlace(home, 'inferred'))} as i on ${sameKey('t', 'i', dimension.key)}`;
  return counts(ROWS, { [`${column.name} inferred`]: `${ident(column.name)} in (${placeholders})` });
}

/** The join that finds a look-up's key for a row `q`, and the key. @param i a number of its own for the aliases */
export function lookUpJoin(
  project: Project,
  names: Names,
  l: LookUp,
  i: number,
): { sql: string; value: string; early?: string } {
  const dimension = targetOf(project, l.dimension);
  const surrogate = ident(columnWith(dimension, 'surrogate key')!);
  const place = names.placeOf(l.dimension.fullName);
  // Where it is not there, a common table expression stands for it.
  const from = place ? qualified(place) : ident(inlinedName(l.dimension.fullName));
  const on = (alias: string) =>
    l.by.map((by, n) => `${alias}.${ident(dimension.key[n]!)} = q.${ident(by)}`).join(' and ');
  const member = `d${i}`;
  const known = `${member}.${surrogate} <> 0`;
  const validFrom = columnWith(dimension, 'valid from');
  const validTo = columnWith(dimension, 'valid to');
  if (validFrom === undefined || validTo === undefined)
    return { sql: `\nleft join ${from} as ${member} on ${on(member)} and ${known}`, value: `${member}.${surrogate}` };
  const versions = (order: string) =>
    `(select distinct on (${columnsOf('v', dimension.key)}) v.* from ${from} as v where v.${surrogate} <> 0 order by ${columnsOf('v', dimension.key)}, v.${ident(validFrom)}${order})`;
  if (l.at === undefined)
    return { sql: `\nleft join ${versions(' desc')} as ${member} on ${on(member)}`, value: `${member}.${surrogate}` };
  const time = `q.${ident(l.at)}`;
  const valid = `${time} >= ${member}.${ident(validFrom)} and (${member}.${ident(validTo)} is null or ${time} < ${member}.${ident(validTo)})`;
  const join = `\nleft join ${from} as ${member} on ${on(member)} and ${known} and ${valid}`;
  if (l.beforeFirst === 'unknown') return { sql: join, value: `${member}.${surrogate}` };
  const first = `f${i}`;
  return {
    sql: `${join}\nleft join ${versions('')} as ${first} on ${on(first)} and ${time} < ${first}.${ident(validFrom)}`,
    value: `${member}.${surrogate}, ${first}.${surrogate}`,
    early: `(${member}.${surrogate} is null and ${first}.${surrogate} is not null)`,
  };
}

function stopGuard(l: LookUp): LoadStep {
  const given = l.by.map((by) => `q.${ident(by)} is not null`).join(' and ');
  return guard(
    `select distinct ${idents(l.by)} from ${ROWS} as q where q.${ident(l.column.name)} = 0 and ${given}`,
    `${l.dimension.fullName} does not know these ${l.by.join(', ')}`,
    `${l.column.name} says missing ‘stop’: load ${l.dimension.fullName} first, or use the unknown member for them.`,
  );
}
