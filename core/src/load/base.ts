import type { ColumnDeclaration, Definition, Project } from '../project/model.js';
import { ident, qualified } from '../sql/quote.js';
import { keyMapsOf, numberIn } from './keys.js';
import { askedTable } from './look-ups-again.js';
import type { Place } from './place.js';
import type { LoadStatement } from './plan.js';
import { loadsInSteps } from './policy.js';
import { emptyTable, REMEMBERED, rememberedPlace, storage, targetOf, type Remembered } from './target.js';

/** What the load of a table that keeps state goes on from. */
export type LoadBase =
  /** Nothing: the first load, or a start over; what is remembered for other keys is forgotten. */
  | { readonly kind: 'none'; readonly forgets?: readonly Remembered[] }
  /** The table in its place, whose columns are the contract's. */
  | { readonly kind: 'in place' }
  /** Rows that are copied first, with what is remembered beside them. */
  | {
      readonly kind: 'copy';
      readonly from: Place;
      readonly columns: readonly string[];
      /** Columns that drift has added before and the contract does not declare: they stay. */
      readonly extras?: readonly { readonly name: string; readonly type: string }[];
      readonly remembers: readonly Remembered[];
    };

/** New columns of the query, added to a table that is changed in its place. */
export function addDrift(project: Project, table: Definition, own: Place): LoadStatement[] {
  const declared = (project.tables.get(table.fullName) as Definition).contract!.columns;
  const actions = table
    .contract!.columns.filter((c) => !declared.some((d) => d.name === c.name))
    .map((c) => `add column if not exists ${ident(c.name)} ${c.type}`);
  return actions.length ? [{ kind: 'build', sql: `alter table ${qualified(own)}\n  ${actions.join(',\n  ')}` }] : [];
}

/** The columns of what a table would remember by business key: what has others was made for another key. */
export function rememberedColumns(project: Project, table: Definition): Map<Remembered, readonly { readonly name: string; readonly type: string }[]> {
  if (!loadsInSteps(table)) return new Map();
  const target = targetOf(project, table);
  const maps = keyMapsOf(target, { schema: '', name: table.name });
  const key = target.key.map((k) => target.columns.find((c) => c.name === k)!);
  return new Map<Remembered, readonly { readonly name: string; readonly type: string }[]>([
    ...maps.map((m) => [m.alias, [...m.parts, { name: numberIn(m), type: 'bigint' }]] as const),
    ['inferred', key],
    ['asked', askedTable(target)],
  ]);
}

/** The column of the rows that are copied that a column goes on from, under its name or its former one. */
export function columnBefore({ name, options }: ColumnDeclaration, { columns }: Extract<LoadBase, { readonly kind: 'copy' }>): string | undefined {
  return [name, options['was']].find((n) => n !== undefined && columns.includes(n));
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

/** What is remembered beside a table, as its load goes on: kept, taken over from where the rows are copied, or forgotten. */
export function remembered(target: Place, base: LoadBase): LoadStatement[] {
  const statements: LoadStatement[] = [];
  for (const what of REMEMBERED) {
    const place = rememberedPlace(target, what);
    if (base.kind === 'none') {
      // Numbers and placeholders outlive a start over and a rebuild; what is known of rows does not.
      if (what === 'events' || what === 'asked' || base.forgets?.includes(what))
        statements.push({ kind: 'build', sql: `drop table if exists ${qualified(place)}` });
      continue;
    }
    if (base.kind !== 'copy') continue;
    const from = rememberedPlace(base.from, what);
    if (qualified(from) === qualified(place)) continue;
    statements.push({ kind: 'build', sql: `drop table if exists ${qualified(place)}` });
    if (base.remembers.includes(what))
      statements.push(
        { kind: 'build', sql: `create table ${qualified(place)} (like ${qualified(from)} including all)` },
        { kind: 'build', sql: `insert into ${qualified(place)} select * from ${qualified(from)}` },
      );
  }
  return statements;
}
