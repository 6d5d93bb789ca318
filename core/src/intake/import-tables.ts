import { remotePlace, remoteColumn } from '../model/source.js';
import type { Contract, Project, SourceTable } from '../model/project.js';
import { applyEdits, type Edit } from '../sql/edits.js';
import { literal, plainIdent } from '../sql/quote.js';
import { keepsValues, shortType } from '../sql/types.js';
import { elementsOf, removalsOf, typeRange } from '../index/elements.js';

/** A table of another database as its catalog tells it. */
export interface CatalogTable {
  readonly schema: string;
  readonly name: string;
  readonly comment: string | null;
  readonly columns: readonly CatalogColumn[];
  readonly primaryKey: readonly string[];
  readonly foreignKeys: readonly {
    readonly columns: readonly string[];
    readonly schema: string;
    readonly table: string;
    readonly references: readonly string[];
  }[];
}

export interface CatalogColumn {
  readonly name: string;
  /** As `format_type` writes it. */
  readonly type: string;
  readonly notNull: boolean;
  readonly comment: string | null;
}

/** How a declared source table and the system's own differ. */
export interface Drift {
  /** Columns of the system that the declaration neither has nor leaves out. */
  readonly added: readonly CatalogColumn[];
  /** Declared columns that the system lacks, by their declared names. */
  readonly dropped: readonly string[];
  /** Columns whose values may no longer fit the declared type. */
  readonly retyped: readonly { readonly name: string; readonly declared: string; readonly actual: string }[];
}

/** A name in the project's habit: lower case, words apart, nothing that needs quotes. */
export function habitualName(name: string): string {
  const plain = name
    .replace(/([a-z0-9])([A-Z])/g, '$1_$2')
    .replace(/([A-Z]+)([A-Z][a-z])/g, '$1_$2')
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '_')
    .replace(/^_+|_+$/g, '');
  return /^[a-z]/.test(plain) ? plain : `c_${plain}`;
}

/** Names in the project's habit for a list of names, different from each other and from others. */
export function habitualNames(names: readonly string[], others: readonly { readonly name: string }[] = []): string[] {
  const taken = new Set(others.map((o) => o.name));
  return names.map((name) => {
    const base = habitualName(name);
    let free = base;
    for (let n = 2; taken.has(free); n++) free = `${base}_${n}`;
    taken.add(free);
    return free;
  });
}

/** Holds a declared source table against the system's. */
export function driftOf(table: SourceTable, actual: CatalogTable): Drift {
  const declared = new Map(table.contract.columns.map((c) => [remoteColumn(c), c]));
  const leftOut = new Set(leftOutOf(table));
  const there = new Map(actual.columns.map((c) => [c.name, c]));
  return {
    added: actual.columns.filter((c) => !declared.has(c.name) && !leftOut.has(c.name)),
    dropped: [...declared].filter(([remote]) => !there.has(remote)).map(([, c]) => c.name),
    retyped: [...declared].flatMap(([remote, c]) => {
      const type = there.get(remote)?.type;
      return type === undefined || keepsValues(shortType(type), c.type)
        ? []
        : [{ name: c.name, declared: c.type, actual: shortType(type) }];
    }),
  };
}

/** Columns of the system that the author does not want, by the system's names. */
function leftOutOf(table: SourceTable): string[] {
  const value = table.contract.options.get('left_out')?.value ?? '';
  return value
    .split(',')
    .map((n) => n.trim())
    .filter((n) => n !== '');
}

export const drifted = (drift: Drift): boolean => drift.added.length + drift.dropped.length + drift.retyped.length > 0;

/** Where imported tables go. */
export interface ImportTarget {
  readonly server: string;
  readonly layer: string;
}

/**
 * The files of `sources/` after an import: tables of the system that are declared already keep what
 * the author wrote and adopt what drifted, the rest are declared at the end of the server's file.
 *
 * @returns new texts by path; a file that need not change is not among them
 */
export function importTables(
  project: Project,
  target: ImportTarget,
  tables: readonly CatalogTable[],
): Map<string, string> {
  const known = new Map<string, SourceTable>();
  const placesOfLayer = new Set<string>();
  for (const t of project.tables.values()) {
    if (t.layer === target.layer) placesOfLayer.add(t.name);
    if (t.kind !== 'source' || t.server !== target.server) continue;
    const { schema, name } = remotePlace(t);
    known.set(`${schema}.${name}`, t);
  }
  const declared = tables.flatMap((t) => known.get(`${t.schema}.${t.name}`) ?? []);
  const fresh = tables.filter((t) => !known.has(`${t.schema}.${t.name}`));
  const names = new Map(
    [...known].map(([remote, t]): [string, Named] => [
      remote,
      { full: t.fullName, columns: new Map(t.contract.columns.map((c) => [remoteColumn(c), c.name])) },
    ]),
  );
  for (const t of fresh) {
    const own = habitualNames(t.columns.map((c) => c.name));
    names.set(`${t.schema}.${t.name}`, {
      full: `${target.layer}.${freeName(t, placesOfLayer)}`,
      columns: new Map(t.columns.map((c, i) => [c.name, own[i]!])),
    });
  }

  const texts = new Map<string, string>();
  for (const path of new Set(declared.map((t) => t.path))) {
    const edits = declared
      .filter((t) => t.path === path)
      .flatMap((t) =>
        takeOver(
          project,
          t,
          tables.find((c) => isOf(t, c))!,
        ),
      );
    if (edits.length) texts.set(path, applyEdits(project.files.get(path)!.text, edits).text);
  }
  const server = project.servers.get(target.server);
  const path = server?.path ?? `sources/${habitualName(target.server)}.sql`;
  const declarations = fresh.map((t) => declaration(target, t, names));
  if (!server) declarations.unshift(`create server ${plainIdent(target.server)} foreign data wrapper postgres_fdw;\n`);
  if (fresh.length || !server) {
    const before = texts.get(path) ?? project.files.get(path)?.text ?? '';
    texts.set(
      path,
      [before.trimEnd(), ...declarations.map((d) => d.trimEnd())].filter((t) => t !== '').join('\n\n') + '\n',
    );
  }
  return texts;
}

/** A table of the system under the project's names. */
interface Named {
  readonly full: string;
  /** By the system's names. */
  readonly columns: ReadonlyMap<string, string>;
}

function isOf(table: SourceTable, actual: CatalogTable): boolean {
  const { schema, name } = remotePlace(table);
  return schema === actual.schema && name === actual.name;
}

/** The table's own name, with its schema's before it where that is taken. */
function freeName(table: CatalogTable, taken: Set<string>): string {
  const own = habitualName(table.name);
  let name = taken.has(own) ? `${habitualName(table.schema)}_${own}` : own;
  for (let n = 2; taken.has(name); n++) name = `${habitualName(table.schema)}_${own}_${n}`;
  taken.add(name);
  return name;
}

/** The edits that bring a declaration up to date with the system; a constraint over a column that is gone goes too. */
export function takeOver(project: Project, table: SourceTable, actual: CatalogTable): Edit[] {
  const { text } = project.files.get(table.path)!;
  const { columns, constraints, range } = table.contract;
  const drift = driftOf(table, actual);
  const kept = columns.filter((c) => !drift.dropped.includes(c.name));
  if (!drifted(drift) || kept.length === 0) return [];
  const elements = elementsOf(text, range);
  const elementOf = (name: string) =>
    elements.find((e) => e.start === columns.find((c) => c.name === name)!.range.start)!;
  const gone = new Set([
    ...drift.dropped.map((name) => elementOf(name)),
    ...elements.filter((e) =>
      constraints.some((c) => c.start === e.start && c.columns.some((name) => drift.dropped.includes(name))),
    ),
  ]);
  const edits: Edit[] = removalsOf(elements, (i) => gone.has(elements[i]!)).map((r) => ({ ...r, text: '' }));
  for (const { name, actual: type } of drift.retyped) {
    const place = typeRange(text, elementOf(name));
    if (place) edits.push({ ...place, text: declaredType(type) });
  }
  if (drift.added.length) {
    const names = habitualNames(
      drift.added.map((c) => c.name),
      columns,
    );
    const added = drift.added.map((c, i) => `,\n  ${columnText(c, names[i]!)}`).join('');
    const at = elementOf(kept.at(-1)!.name).end;
    const removal = edits.findIndex((e) => e.start === at);
    if (removal >= 0) edits[removal] = { ...edits[removal]!, text: added };
    else edits.push({ start: at, end: at, text: added });
  }
  return edits;
}

/** Types that exist in every PostgreSQL; others are read as text. */
const BUILT_IN =
  /^(smallint|integer|bigint|numeric(\(\d+(,\d+)?\))?|real|double precision|money|text|varchar(\(\d+\))?|character(\(\d+\))?|boolean|date|timestamptz(\(\d\))?|timestamp(\(\d\))?|time(\(\d\))?|timetz(\(\d\))?|interval|uuid|jsonb?|bytea|inet|cidr|macaddr|bit(\(\d+\))?|xml)(\[\])*$/;

/** True where a type is PostgreSQL's own, so that both databases have it. */
export const isBuiltIn = (type: string): boolean => BUILT_IN.test(type);

const declaredType = (type: string): string => (isBuiltIn(shortType(type)) ? shortType(type) : 'text');

function columnText(column: CatalogColumn, name: string, width = 0): string {
  const parts = [plainIdent(name).padEnd(width), declaredType(column.type)];
  if (name !== column.name) parts.push(`options (column_name ${literal(column.name)})`);
  if (column.notNull) parts.push('not null');
  return parts.join(' ');
}

function declaration(target: ImportTarget, table: CatalogTable, names: ReadonlyMap<string, Named>): string {
  const { full, columns } = names.get(`${table.schema}.${table.name}`)!;
  const list = (remote: readonly string[], of: Named['columns'] = columns) =>
    remote.map((c) => plainIdent(of.get(c) ?? habitualName(c))).join(', ');
  const width = Math.max(...[...columns.values()].map((n) => plainIdent(n).length));
  const lines = table.columns.map((c) => columnText(c, columns.get(c.name)!, width));
  if (table.primaryKey.length) lines.push(`primary key (${list(table.primaryKey)})`);
  for (const key of table.foreignKeys) {
    const other = names.get(`${key.schema}.${key.table}`);
    // A relation to a table that is not imported has nothing to point at.
    if (other)
      lines.push(
        `foreign key (${list(key.columns)}) references ${plainName(other.full)} (${list(key.references, other.columns)})`,
      );
  }
  const options = [`schema_name ${literal(table.schema)}`, `table_name ${literal(table.name)}`];
  const comments = [
    ...(table.comment === null ? [] : [`comment on foreign table ${plainName(full)} is ${literal(table.comment)};`]),
    ...table.columns.flatMap((c) =>
      c.comment === null
        ? []
        : [`comment on column ${plainName(full)}.${plainIdent(columns.get(c.name)!)} is ${literal(c.comment)};`],
    ),
  ];
  return [
    `create foreign table ${plainName(full)} (`,
    `  ${lines.join(',\n  ')}`,
    `) server ${plainIdent(target.server)} options (${options.join(', ')});`,
    ...comments,
  ].join('\n');
}

const plainName = (full: string) => full.split('.').map(plainIdent).join('.');

/** The contract of a source table with further columns of its system, as `drift = add` takes them in. */
export function withAddedColumns(table: SourceTable, added: readonly CatalogColumn[]): SourceTable {
  const names = habitualNames(
    added.map((c) => c.name),
    table.contract.columns,
  );
  const columns: Contract['columns'] = [
    ...table.contract.columns,
    ...added.map((c, i) => ({
      name: names[i]!,
      type: declaredType(c.type),
      notNull: false,
      options: (names[i] === c.name ? {} : { column_name: c.name }) as Readonly<Record<string, string>>,
      range: table.nameRange,
    })),
  ];
  return { ...table, contract: { ...table.contract, columns } };
}
