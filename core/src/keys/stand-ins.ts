import { specOf } from '../language/spec.js';
import { columnWith, hasRole, roleOf } from '../language/roles.js';
import type { ColumnDeclaration, Definition, Project } from '../model/project.js';
import { ident } from '../sql/quote.js';
import type { Names } from '../compile/compile.js';
import { hashOf, type HashedPart } from '../compile/hashing.js';
import { rowHash } from './keys.js';
import { lookUpJoin } from './look-ups.js';
import { unknownMemberItems } from './members.js';
import { targetOf, type LookUp, type Target } from '../compile/target.js';
import { lookedUpTables } from '../graph/looked-up.js';
import { columnOption } from '../language/contract.js';

/** What stands for the columns that a load fills, while its table is not there and its query is read in its place. */
export interface StandIns {
  /** Values over `q`, the query's row, by column. */
  readonly values: ReadonlyMap<string, string>;
  /** The joins that they need. */
  readonly joins: string;
  /** The items of the unknown member, in the contract's order, where some contract looks the table up. */
  readonly unknownMember?: readonly string[];
}

/**
 * Keys are looked up in the dimension, or in the query that stands for it; hashes stand for the numbers of members,
 * on both sides, so that joins over them hold. Events say from when to when each of them holds.
 */
export function standInColumns(project: Project, table: Definition, names: Names): StandIns {
  const target = targetOf(project, table);
  const values = new Map<string, string>();
  let joins = '';
  for (const [i, lookUp] of target.lookUps.entries()) {
    const isKnown = names.placeOf(lookUp.dimension.fullName) !== undefined || lookUp.dimension.query !== undefined;
    const known = isKnown ? lookUpJoin(project, names, lookUp, i) : undefined;
    joins += known?.sql ?? '';
    values.set(lookUp.column.name, known ? `coalesce(${known.value}, 0)` : hashOf(hashedBy(project, lookUp)));
  }
  for (const column of target.columns) {
    const value = standIn(target, column);
    if (value !== undefined) values.set(column.name, value);
  }
  for (const column of target.columns.filter((c) => hasRole(c, 'row hash'))) {
    values.set(
      column.name,
      rowHash(target, column, (c) => values.get(c.name) ?? `q.${ident(c.name)}`),
    );
  }
  const hasMember = lookedUpTables(project).has(table.fullName) && columnWith(target, 'surrogate key') !== undefined;
  return { values, joins, ...(hasMember ? { unknownMember: unknownMemberItems(target) } : {}) };
}

/** What a look-up looks for, in the types of what it is held against. */
function hashedBy(project: Project, { by, dimension }: LookUp): HashedPart[] {
  const { key, columns } = targetOf(project, dimension);
  return by.map((name, n) => ({
    value: `q.${ident(name)}`,
    type: columns.find((c) => c.name === key[n])?.type ?? 'text',
  }));
}

/** Of a history from events: the instant from which a row of the query holds. */
const instantOf = ({ spec }: Target): string | undefined =>
  spec.kind === 'events' ? `q.${ident(spec.effectiveFrom)}` : undefined;

function standIn(target: Target, column: ColumnDeclaration): string | undefined {
  if (columnOption(column, 'on_change') === 'previous') return 'null';
  const key = target.key.map((k) => ({ value: `q.${ident(k)}`, type: target.columns.find((c) => c.name === k)!.type }));
  const instant = instantOf(target);
  const order = target.spec.kind === 'events' ? target.spec.orderWithin : undefined;
  const events = `over (partition by ${key.map((k) => k.value).join(', ')} order by ${instant ?? ''}${order === undefined ? '' : `, q.${ident(order)}`})`;
  switch (roleOf(column)) {
    case 'surrogate key':
      return hashOf(instant === undefined ? key : [...key, { value: instant, type: 'timestamptz' }]);
    case 'durable key':
      return hashOf(key);
    case 'valid from':
      return instant ?? "'-infinity'";
    case 'valid to':
      return instant === undefined ? 'null' : `lead(${instant}) ${events}`;
    case 'run id':
      return 'null';
    case 'current flag':
      return instant === undefined ? 'true' : `lead(${instant}) ${events} is null`;
    case 'version number':
      return instant === undefined ? '1' : `row_number() ${events}`;
    case 'loaded at':
      return 'now()';
    case 'deleted flag':
      return 'false';
    default:
      return undefined;
  }
}

/** Why a column of a table that is not built holds a stand-in, in words; undefined where its query gives the value. */
export function dependsOnLoads(table: Definition, column: string): string | undefined {
  const declared = table.contract?.columns.find((c) => c.name === column);
  if (!declared) return undefined;
  const spec = specOf(table);
  if (columnOption(declared, 'on_change') === 'previous')
    return 'the previous value is known from past loads: null is shown instead';
  if (spec.kind === 'history' && columnOption(declared, 'on_change') === 'keep')
    return 'the first value is known from past loads: the query’s current value is shown instead';
  switch (roleOf(declared)) {
    case 'surrogate key':
    case 'durable key':
      return spec.keyMethod === 'hash'
        ? undefined
        : 'loads assign the numbers: a hash of the business key is shown instead';
    case 'valid from':
    case 'valid to':
    case 'version number':
    case 'current flag':
      return spec.kind !== 'history'
        ? undefined
        : 'versions come from past loads: the query’s current values are shown for all time';
    case 'loaded at':
    case 'run id':
      return 'a load says when and by what it was written';
    case 'deleted flag':
      return 'which rows have gone is known from past loads: false is shown instead';
    default:
      return undefined;
  }
}

/**
 * Which of a query's columns hold stand-ins, through any number of tables that are not built, with the reason.
 * @param origins the project's columns that give each value of a column
 */
export function standInReason(
  project: Project,
  origins: readonly string[],
  isThere: (table: string) => boolean,
): string | undefined {
  const open = [...origins];
  const seen = new Set<string>();
  for (let origin = open.pop(); origin !== undefined; origin = open.pop()) {
    if (seen.has(origin)) continue;
    seen.add(origin);
    const at = origin.lastIndexOf('.');
    const [full, column] = [origin.slice(0, at), origin.slice(at + 1)];
    const table = project.tables.get(full);
    if (table?.kind !== 'definition' || isThere(full)) continue;
    const reason = dependsOnLoads(table, column);
    if (reason !== undefined) return `${full} is not built: ${reason}`;
    const looked = targetLookUp(project, table, column);
    if (looked && !isThere(looked))
      return `${looked} is not built, and loads assign the numbers: a hash of the business key is shown instead`;
    open.push(...(project.columns.get(full)?.find((c) => c.name === column)?.origins ?? []));
  }
  return undefined;
}

const targetLookUp = (project: Project, table: Definition, column: string): string | undefined =>
  table.contract
    ? targetOf(project, table).lookUps.find((l) => l.column.name === column)?.dimension.fullName
    : undefined;
