import type { ColumnDeclaration, Definition, Project } from '../../model/project.js';
import { ident, qualified } from '../../sql/quote.js';
import { keepLastNumber, lastNumbersTable } from '../../keys/keys.js';
import { migrateRemembered, type RememberedTable } from './remember.js';
import type { Place } from '../../model/place.js';
import type { LoadStatement } from '../../compile/steps.js';
import { emptyTable, REMEMBERED, rememberedPlace, storage, type Remembered } from '../../compile/target.js';

/** What the load of a table that keeps state goes on from. */
export type LoadBase =
  /** Nothing: the first load, a rebuild, or a start over; with what is remembered beside the table, under its former name if it bears another now. */
  | { readonly kind: 'none'; readonly there?: readonly RememberedTable[]; readonly formerly?: Place }
  /** The table in its place, whose columns are the contract's. */
  | { readonly kind: 'in place' }
  /** Rows that are copied first, with what is remembered beside them. */
  | {
      readonly kind: 'copy';
      readonly from: Place;
      readonly columns: readonly string[];
      /** Columns that drift has added before and the contract does not declare: they stay. */
      readonly extras?: readonly { readonly name: string; readonly type: string }[];
      readonly remembers: readonly RememberedTable[];
      /** Whether its hashes were made as text, so that they are remade. */
      readonly isRehashed?: boolean;
      /** Columns that hold hashes of dimensions which are remade, too: where these stand with their former keys. */
      readonly rehashed?: readonly {
        readonly column: string;
        readonly dimension: string;
        readonly from: Place;
        readonly columns: readonly string[];
      }[];
    };

/** New columns of the query, added to a table that is changed in its place. */
export function addDrift(project: Project, table: Definition, own: Place): LoadStatement[] {
  const declared = (project.tables.get(table.fullName) as Definition).contract!.columns;
  const actions = table
    .contract!.columns.filter((c) => !declared.some((d) => d.name === c.name))
    .map((c) => `add column if not exists ${ident(c.name)} ${c.type}`);
  return actions.length ? [{ kind: 'build', sql: `alter table ${qualified(own)}\n  ${actions.join(',\n  ')}` }] : [];
}

/** The column of the rows that are copied that a column goes on from, under its name or its former one. */
export function columnBefore(
  { name, options }: ColumnDeclaration,
  { columns }: Extract<LoadBase, { readonly kind: 'copy' }>,
): string | undefined {
  return [name, options['was']].find((n) => n !== undefined && columns.includes(n));
}

/** Columns of the contract that the events of the rows that are copied do not have. */
export function addedToEvents(
  table: Definition,
  { remembers }: Extract<LoadBase, { readonly kind: 'copy' }>,
): string[] {
  const events = remembers.find((r) => r.what === 'events');
  const has = (name: string | undefined) => events?.columns.some((c) => c.name === name) ?? true;
  return table.contract!.columns.filter((c) => !has(c.name) && !has(c.options['was'])).map((c) => c.name);
}

/** The table that the load goes on with: empty, or a copy in the contract's form; new columns are null in old rows. */
export function startingTable(table: Definition, own: Place, base: LoadBase): string {
  const columns = table.contract!.columns;
  if (base.kind !== 'copy') return emptyTable(table, own);
  const extras = (base.extras ?? []).filter((e) => !columns.some((c) => c.name === e.name)).map((e) => ident(e.name));
  const items = columns.map((c) => {
    const from = columnBefore(c, base);
    return `cast(${from === undefined ? 'null' : ident(from)} as ${c.type}) as ${ident(c.name)}`;
  });
  return `create table ${qualified(own)}${storage(table)} as\nselect ${[...items, ...extras].join(',\n       ')}\nfrom ${qualified(base.from)}`;
}

/** What is remembered beside a table, as its load goes on: kept in the contract's form, adopted from where the rows are copied, or forgotten. */
export function remembered(project: Project, table: Definition, target: Place, base: LoadBase): LoadStatement[] {
  if (base.kind === 'in place') return [];
  const statements: LoadStatement[] = [];
  const placeOf = (what: Remembered) => rememberedPlace(target, what);
  const drop = (what: Remembered) =>
    statements.push({ kind: 'build', sql: `drop table if exists ${qualified(placeOf(what))}` });
  const there = base.kind === 'none' ? (base.there ?? []) : base.remembers;
  const { statements: changes, forgets } = migrateRemembered(project, table, there, placeOf);
  const from = base.kind === 'none' ? (base.formerly ?? target) : base.from;
  const isElsewhere = qualified(from) !== qualified(target);
  // Numbers and placeholders outlive a start over and a rebuild; what is known of rows does not.
  const isKept = (what: Remembered) =>
    !forgets.includes(what) && (base.kind === 'copy' || (what !== 'events' && what !== 'asked'));
  // What gave numbers and goes leaves the greatest behind.
  const left = forgets.flatMap((map) => {
    if (map !== 'keys' && map !== 'durable') return [];
    const column = there.find((t) => t.what === map)!.columns.some((c) => c.name === 'number$') ? 'number$' : 'number';
    return [
      lastNumbersTable(placeOf('last')),
      keepLastNumber(placeOf('last'), map, rememberedPlace(from, map), column),
    ].map((sql): LoadStatement => ({
      kind: 'build',
      sql,
    }));
  });
  if (!isElsewhere) statements.push(...left);
  for (const what of REMEMBERED) {
    if (isElsewhere || !isKept(what)) drop(what);
    if (!isElsewhere || !isKept(what) || !there.some((r) => r.what === what)) continue;
    const before = qualified(rememberedPlace(from, what));
    statements.push(
      { kind: 'build', sql: `create table ${qualified(placeOf(what))} (like ${before} including all)` },
      { kind: 'build', sql: `insert into ${qualified(placeOf(what))} select * from ${before}` },
    );
  }
  if (isElsewhere) statements.push(...left);
  const gone = (sql: string) =>
    base.kind === 'none' &&
    (['events', 'asked'] as const).some((what) => sql.startsWith(`alter table ${qualified(placeOf(what))} `));
  return [...statements, ...changes.filter((c) => !gone(c.sql))];
}
