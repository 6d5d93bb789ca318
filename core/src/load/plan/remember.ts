import type { ColumnDeclaration, Definition, Project } from '../../model/project.js';
import { ident, qualified } from '../../sql/quote.js';
import { shortType } from '../../sql/types.js';
import { keyMapsOf, numberIn } from '../../keys/keys.js';
import { askedTable } from '../../keys/look-ups-again.js';
import type { Place } from '../../model/place.js';
import type { LoadStatement } from '../../compile/steps.js';
import { loadsInSteps } from '../steps/load-steps.js';
import { targetOf, writtenColumns, type Remembered } from '../../compile/target.js';

interface Shape {
  readonly name: string;
  readonly type: string;
}

/** What is beside a table now, with its columns as the catalog tells them. */
export interface RememberedTable {
  readonly what: Remembered;
  readonly columns: readonly Shape[];
}

/** Kinds that hold a business key: one that lacks a part of it is of another key. */
const BY_KEY: ReadonlySet<Remembered> = new Set(['keys', 'durable', 'inferred', 'asked']);

/** The columns that each kind has by the contract, as far as the contract says their types. */
function wantedShapes(project: Project, table: Definition): Map<Remembered, readonly Shape[]> {
  if (!loadsInSteps(table)) return new Map();
  const target = targetOf(project, table);
  const maps = keyMapsOf(target, { schema: '', name: table.name });
  const shapes = new Map<Remembered, readonly Shape[]>([
    ...maps.map((m) => [m.alias, [...m.parts, { name: numberIn(m), type: 'bigint' }]] as const),
    ['inferred', target.key.map((k) => target.columns.find((c) => c.name === k)!)],
    ['asked', askedTable(target)],
  ]);
  if (target.spec.kind === 'events') shapes.set('events', writtenColumns(target));
  return shapes;
}

/** How what is remembered comes into the contract's form. */
export interface RememberedMigration {
  readonly statements: readonly LoadStatement[];
  /** What is of another business key, and cannot. */
  readonly forgets: readonly Remembered[];
}

/**
 * What is remembered beside a table belongs to its contract: columns are renamed with `was`, types widened, columns
 * of events added and dropped, in the transaction that changes the table.
 * @param placeOf where each kind is
 */
export function migrateRemembered(
  project: Project,
  table: Definition,
  there: readonly RememberedTable[],
  placeOf: (what: Remembered) => Place,
): RememberedMigration {
  const wanted = wantedShapes(project, table);
  const statements: LoadStatement[] = [];
  const forgets: Remembered[] = [];
  for (const { what, columns } of there) {
    const shape = wanted.get(what);
    if (!shape) continue;
    const changes = columnChanges(table.contract!.columns, shape, columns, what);
    if (!changes) forgets.push(what);
    else
      statements.push(
        ...changes.map((change): LoadStatement => ({
          kind: 'build',
          sql: `alter table ${qualified(placeOf(what))} ${change}`,
        })),
      );
  }
  return { statements, forgets };
}

/** The changes of one table's columns; undefined where they are those of another key. */
function columnChanges(
  declared: readonly ColumnDeclaration[],
  wanted: readonly Shape[],
  there: readonly Shape[],
  what: Remembered,
): string[] | undefined {
  const has = (name: string) => there.some((c) => c.name === name);
  const formerOf = (name: string): string | undefined => {
    if (has(name)) return name;
    const was = declared.find((c) => c.name === name)?.options['was'];
    if (was !== undefined && has(was)) return was;
    // The column of numbers bears another name where a part of the key is called as it is.
    return name.startsWith('number')
      ? ['number', 'number$'].find((n) => has(n) && !wanted.some((w) => w.name === n))
      : undefined;
  };
  const pairs = wanted.map((column) => ({ column, former: formerOf(column.name) }));
  const kept = new Set(pairs.flatMap((p) => p.former ?? []));
  // What the query says besides the contract's columns, such as the instant of an event, stays as it is.
  const isSaid = (name: string) =>
    what === 'events' && !declared.some((c) => c.name === name) && !declared.some((c) => c.options['was'] === name);
  const gone = there.filter((c) => !kept.has(c.name) && !(isSaid(c.name) && c.name !== ''));
  if (BY_KEY.has(what) && (gone.length > 0 || pairs.some((p) => p.former === undefined))) return undefined;
  const renamed = pairs.filter((p) => p.former !== undefined && p.former !== p.column.name);
  return [
    // A name may pass from one column to another.
    ...renamed.map((p, i) => `rename column ${ident(p.former!)} to ${ident(`renamed$${i}`)}`),
    ...gone.map((c) => `drop column ${ident(c.name)}`),
    ...renamed.map((p, i) => `rename column ${ident(`renamed$${i}`)} to ${ident(p.column.name)}`),
    ...pairs.flatMap(({ column: { name, type }, former }) => {
      if (former === undefined) return [`add column ${ident(name)} ${type}`];
      const before = there.find((c) => c.name === former)!;
      return shortType(before.type) === type
        ? []
        : [`alter column ${ident(name)} type ${type} using cast(${ident(name)} as ${type})`];
    }),
  ];
}
