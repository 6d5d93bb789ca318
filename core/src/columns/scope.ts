import type { Column } from '../model/project.js';

/** Undefined where the columns cannot be known: a function's, those of a table that does not exist. */
export type Columns = readonly Column[] | undefined;

/** What a name in FROM stands for. */
export interface RangeEntry {
  readonly name: string;
  readonly schema?: string;
  readonly columns: Columns;
}

/** What one item of FROM brings, or all of them together. */
export interface FromItem {
  readonly ranges: readonly RangeEntry[];
  /** Columns merged by USING or NATURAL: not ambiguous though several ranges have them. */
  readonly merged: ReadonlySet<string>;
  /** What `*` gives. */
  readonly star: Columns;
}

/** The names that an expression can see, with those of the queries around it. */
export interface Scope extends FromItem {
  readonly outer?: Scope;
}

const SYSTEM_COLUMNS = new Set(['ctid', 'xmin', 'xmax', 'cmin', 'cmax', 'tableoid']);
const NOTHING: ReadonlySet<string> = new Set();
export const EMPTY: Scope = { ranges: [], merged: NOTHING, star: [] };

/** Two items side by side, as a comma or a join has them. */
export function combine(a: FromItem, b: FromItem): FromItem {
  if (a.ranges.length === 0) return b;
  return {
    ranges: [...a.ranges, ...b.ranges],
    merged: a.merged.size === 0 ? b.merged : b.merged.size === 0 ? a.merged : new Set([...a.merged, ...b.merged]),
    star: a.star && b.star ? [...a.star, ...b.star] : undefined,
  };
}

export function single(name: string, columns: Columns, schema?: string): FromItem {
  return { ranges: [{ name, schema, columns }], merged: NOTHING, star: columns };
}

/** An item as the names around it see it. */
export function within(item: FromItem, outer: Scope | undefined): Scope {
  return { ranges: item.ranges, merged: item.merged, star: item.star, outer };
}

/** GROUP BY and ORDER BY may also name output columns; the output hides nothing and is never ambiguous. */
export function outputScope(scope: Scope, columns: Columns): Scope {
  if (!columns) return { ...scope, ranges: [...scope.ranges, { name: '', columns: undefined }] };
  return within(scope, within(single('', columns), scope.outer));
}

/** What a column's name turns out to be. */
export type Found =
  | { readonly kind: 'found'; readonly column: Column }
  | { readonly kind: 'row'; readonly columns: Columns }
  | { readonly kind: 'uncertain' }
  | { readonly kind: 'ambiguous'; readonly tables: readonly string[] }
  | { readonly kind: 'missing'; readonly range: boolean; readonly names: readonly string[] };

const UNCERTAIN: Found = { kind: 'uncertain' };

/** Looks a column up by its written parts, from the innermost query outwards. */
export function lookUp(scope: Scope, parts: readonly string[]): Found {
  return parts.length > 1 ? lookUpQualified(scope, parts) : lookUpBare(scope, parts[0]!);
}

function lookUpQualified(scope: Scope, parts: readonly string[]): Found {
  const column = parts.at(-1)!;
  const range = findRange(scope, parts.at(-2)!, parts.length === 3 ? parts[0] : undefined);
  if (!range) {
    // `a.b` may also be field b of a composite column a.
    const composite = parts.length === 2 ? lookUp(scope, parts.slice(0, 1)) : undefined;
    if (composite && composite.kind !== 'missing') return UNCERTAIN;
    return { kind: 'missing', range: false, names: rangeNames(scope) };
  }
  if (!range.columns || SYSTEM_COLUMNS.has(column)) return UNCERTAIN;
  const found = columnOf(range, column);
  return found
    ? { kind: 'found', column: found }
    : { kind: 'missing', range: true, names: range.columns.map((c) => c.name) };
}

function lookUpBare(scope: Scope, column: string): Found {
  let uncertain = false;
  for (let level: Scope | undefined = scope; level; level = level.outer) {
    let match: Column | undefined;
    for (const range of level.ranges) {
      if (!range.columns) uncertain = true;
      const found = columnOf(range, column);
      if (!found) continue;
      if (match && !level.merged.has(column))
        return { kind: 'ambiguous', tables: level.ranges.filter((r) => columnOf(r, column)).map((r) => r.name) };
      match ??= found;
    }
    if (match) return { kind: 'found', column: match };
    const row = level.ranges.find((r) => r.name === column);
    if (row) return { kind: 'row', columns: row.columns };
  }
  if (uncertain || SYSTEM_COLUMNS.has(column)) return UNCERTAIN;
  return { kind: 'missing', range: true, names: columnNames(scope) };
}

function columnOf(range: RangeEntry, name: string): Column | undefined {
  const { columns } = range;
  if (columns) for (const column of columns) if (column.name === name) return column;
  return undefined;
}

/** The range of a written name, `alias` or `schema.table`. */
export function findRange(scope: Scope, name: string, schema?: string): RangeEntry | undefined {
  for (let level: Scope | undefined = scope; level; level = level.outer) {
    for (const range of level.ranges)
      if (range.name === name && (schema === undefined || range.schema === schema)) return range;
  }
  return undefined;
}

export const rangeNames = onceAScope((scope) =>
  levels(scope)
    .flatMap((level) => level.ranges.map((r) => r.name))
    .filter((n) => n !== ''),
);

const columnNames = onceAScope((scope) =>
  levels(scope).flatMap((level) => level.ranges.flatMap((r) => (r.columns ?? []).map((c) => c.name))),
);

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
