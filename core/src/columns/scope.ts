import { typeOfKey } from '../catalog/type-names.js';
import { NOTHING, type Field, type Value } from './value.js';

/** Undefined where the columns cannot be known: those of a table that does not exist. */
export type Fields = readonly Field[] | undefined;

/** What a name in FROM stands for. */
export interface RangeEntry {
  readonly name: string;
  readonly schema?: string | undefined;
  readonly fields: Fields;
  /** The type of its rows, where they are a table's. */
  readonly rowType?: string | undefined;
  /** Its rows are single values: the name of the table is the value. */
  readonly isScalar?: boolean;
}

/** What one item of FROM brings, or all of them together. */
export interface FromItem {
  readonly ranges: readonly RangeEntry[];
  /** The columns that a name without a table means, in the order of `*`; a merged one is there once. */
  readonly bare: readonly Field[];
  /** Some of the columns cannot be known. */
  readonly open: boolean;
}

/** The names that an expression can see, with those of the queries around it. */
export interface Scope extends FromItem {
  readonly outer?: Scope | undefined;
  /** Names of output columns, for ORDER BY and GROUP BY: before or after those of FROM. */
  readonly output?: { readonly fields: Fields; readonly first: boolean };
}

const SYSTEM_COLUMNS: ReadonlyMap<string, string> = new Map([
  ['ctid', 'tid'],
  ['xmin', 'xid'],
  ['xmax', 'xid'],
  ['cmin', 'cid'],
  ['cmax', 'cid'],
  ['tableoid', 'oid'],
]);
const NO_FIELDS: readonly Field[] = [];
export const EMPTY: Scope = { ranges: [], bare: NO_FIELDS, open: false };

/** Two items side by side, as a comma or a join has them. */
export function combine(a: FromItem, b: FromItem): FromItem {
  if (a.ranges.length === 0) return b;
  return { ranges: [...a.ranges, ...b.ranges], bare: [...a.bare, ...b.bare], open: a.open || b.open };
}

export function single(entry: RangeEntry): FromItem {
  return { ranges: [entry], bare: entry.fields ?? NO_FIELDS, open: entry.fields === undefined };
}

/** An item as the names around it see it. */
export function within(item: FromItem, outer: Scope | undefined): Scope {
  return { ranges: item.ranges, bare: item.bare, open: item.open, outer };
}

/** All that `*` gives, undefined where some cannot be known. */
export const starOf = (item: FromItem): Fields =>
  item.open ? undefined : item.bare.some((f) => f.hidden) ? item.bare.filter((f) => !f.hidden) : item.bare;

/** What a column's name turns out to be. */
export type Found =
  | { readonly kind: 'found'; readonly value: Value; readonly level: Scope }
  | { readonly kind: 'row'; readonly range: RangeEntry; readonly level: Scope }
  | { readonly kind: 'uncertain' }
  | { readonly kind: 'ambiguous'; readonly tables: readonly string[] }
  | { readonly kind: 'missing'; readonly range: boolean; readonly names: readonly string[] };

const UNCERTAIN: Found = { kind: 'uncertain' };

/** Looks a column up by its written parts, from the innermost query outwards; fields of rows are the caller's. */
export function lookUp(scope: Scope, parts: readonly string[]): Found {
  return parts.length > 1 ? lookUpQualified(scope, parts) : lookUpBare(scope, parts[0]!);
}

function lookUpQualified(scope: Scope, parts: readonly string[]): Found {
  const column = parts.at(-1)!;
  const range = findRange(scope, parts.at(-2)!, parts.length > 2 ? parts.at(-3) : undefined);
  if (!range) return { kind: 'missing', range: false, names: rangeNames(scope) };
  const found = range.entry.fields && fieldOf(range.entry.fields, column);
  if (found) return { kind: 'found', value: found, level: range.level };
  const system = systemColumn(column, range.level);
  if (system) return system;
  if (!range.entry.fields) return UNCERTAIN;
  return { kind: 'missing', range: true, names: range.entry.fields.map((f) => f.name) };
}

const systemColumn = (name: string, level: Scope): Found | undefined => {
  const type = SYSTEM_COLUMNS.get(name);
  return type === undefined
    ? undefined
    : { kind: 'found', value: { type: typeOfKey(type), value: NOTHING, influence: NOTHING, kind: 'copied' }, level };
};

function lookUpBare(scope: Scope, column: string): Found {
  let uncertain = false;
  for (let level: Scope | undefined = scope; level; level = level.outer) {
    const output = level.output && outputField(level.output.fields, column);
    if (level.output?.first && output) return { kind: 'found', value: output, level };
    const found = fieldOf(level.bare, column);
    if (found) {
      if (isTwice(level, found)) return { kind: 'ambiguous', tables: rangesWith(level, column) };
      return { kind: 'found', value: found, level };
    }
    if (output) return { kind: 'found', value: output, level };
    if (level.open || (level.output && !level.output.fields)) uncertain = true;
    const row = level.ranges.find((r) => r.name === column);
    if (row) return { kind: 'row', range: row, level };
    if (level.ranges.length && !uncertain) {
      const system = systemColumn(column, level);
      if (system) return system;
    }
  }
  if (uncertain || SYSTEM_COLUMNS.has(column)) return UNCERTAIN;
  return { kind: 'missing', range: true, names: columnNames(scope) };
}

/** An output column of a name; of several that are the same column, any. */
const outputField = (fields: Fields, name: string): Field | undefined => fields && fieldOf(fields, name);

const isTwice = (level: Scope, found: Field): boolean => {
  for (let i = level.bare.indexOf(found) + 1; i < level.bare.length; i++)
    if (level.bare[i]!.name === found.name) return true;
  return false;
};

const rangesWith = (level: Scope, column: string): string[] =>
  level.ranges.filter((r) => r.fields && fieldOf(r.fields, column)).map((r) => r.name);

/** The first column of a name. */
export function fieldOf(fields: readonly Field[], name: string): Field | undefined {
  for (const field of fields) if (field.name === name) return field;
  return undefined;
}

/** The range of a written name, `alias` or `schema.table`, and the query in whose FROM it is. */
export function findRange(
  scope: Scope,
  name: string,
  schema?: string,
): { readonly entry: RangeEntry; readonly level: Scope } | undefined {
  for (let level: Scope | undefined = scope; level; level = level.outer) {
    for (const entry of level.ranges)
      if (entry.name === name && (schema === undefined || entry.schema === schema)) return { entry, level };
  }
  return undefined;
}

export const rangeNames = onceAScope((scope) =>
  levels(scope)
    .flatMap((level) => level.ranges.map((r) => r.name))
    .filter((n) => n !== ''),
);

const columnNames = onceAScope((scope) => [
  ...new Set(levels(scope).flatMap((level) => [...level.bare, ...(level.output?.fields ?? [])].map((f) => f.name))),
]);

/** A scope never changes, and a query with one wrong name may have a thousand. */
function onceAScope(names: (scope: Scope) => readonly string[]): (scope: Scope) => readonly string[] {
  const known = new WeakMap<Scope, readonly string[]>();
  return (scope) => {
    const before = known.get(scope);
    if (before) return before;
    const found = names(scope);
    known.set(scope, found);
    return found;
  };
}

function levels(scope: Scope): Scope[] {
  const found: Scope[] = [];
  for (let level: Scope | undefined = scope; level; level = level.outer) found.push(level);
  return found;
}
