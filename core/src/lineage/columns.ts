import type { Alias, ColumnRef, CommonTableExpr, JoinExpr, Node, RangeFunction, RangeSubselect, RangeVar, SelectStmt } from 'libpg-query';
import type { Column } from '../project/model.js';
import { typeText } from '../sql/types.js';
import { outputName } from './output-name.js';

/**
 * Resolves the columns of a query: names, known types, and the project's columns that give each
 * value. What cannot be known (a function's columns, a table that does not exist) is undefined and
 * never reported twice.
 */
export type Columns = readonly Column[] | undefined;

export type ColumnProblem =
  | { readonly kind: 'unknown'; readonly location: number; readonly parts: readonly string[]; readonly names: readonly string[] }
  | { readonly kind: 'ambiguous'; readonly location: number; readonly parts: readonly string[]; readonly tables: readonly string[] }
  | { readonly kind: 'unknown-range'; readonly location: number; readonly parts: readonly string[]; readonly names: readonly string[] }
  | { readonly kind: 'arms'; readonly location: number; readonly left: number; readonly right: number };

export interface ColumnResolution {
  readonly columns: Columns;
  readonly problems: readonly ColumnProblem[];
}

/** What a name in FROM stands for. */
interface RangeEntry {
  readonly name: string;
  readonly schema?: string;
  readonly columns: Columns;
}

interface Scope {
  readonly ranges: readonly RangeEntry[];
  /** Columns merged by USING or NATURAL: not ambiguous though several ranges have them. */
  readonly merged: ReadonlySet<string>;
  /** What `*` gives. */
  readonly star: Columns;
  readonly outer?: Scope;
}

type Ctes = ReadonlyMap<string, Columns>;

interface State {
  readonly tableColumns: (layer: string, name: string) => Columns;
  problems: ColumnProblem[];
}

const SYSTEM_COLUMNS = new Set(['ctid', 'xmin', 'xmax', 'cmin', 'cmax', 'tableoid']);
const EMPTY: Scope = { ranges: [], merged: new Set(), star: [] };

/**
 * @param tableColumns the columns of a table of the project, undefined if unknown.
 */
export function resolveColumns(select: SelectStmt, tableColumns: State['tableColumns']): ColumnResolution {
  const state: State = { tableColumns, problems: [] };
  const columns = selectColumns(state, select, undefined, new Map());
  return { columns, problems: state.problems };
}

/** The column names that an expression (a contract's check) mentions but `columns` lacks. */
export function resolveExpression(expression: Node, table: string, columns: readonly Column[]): readonly ColumnProblem[] {
  const state: State = { tableColumns: () => undefined, problems: [] };
  const scope: Scope = { ...EMPTY, ranges: [{ name: table, columns }], star: columns };
  visit(state, expression, scope, new Map());
  return state.problems;
}

function selectColumns(state: State, select: SelectStmt, outer: Scope | undefined, outerCtes: Ctes): Columns {
  const ctes = select.withClause ? withCtes(state, select, outer, outerCtes) : outerCtes;
  if (select.op && select.op !== 'SETOP_NONE') return setOperation(state, select, outer, ctes);
  if (select.valuesLists) {
    const rows = select.valuesLists.map((row) => ('List' in row ? (row.List.items ?? []) : []));
    const scope: Scope = { ...EMPTY, outer };
    const origins = rows.map((row) => row.map((item) => visit(state, item, scope, ctes)));
    return (rows[0] ?? []).map((_, i) => ({ name: `column${i + 1}`, origins: union(origins.map((row) => row[i] ?? [])) }));
  }
  const scope = fromScope(state, select.fromClause ?? [], outer, ctes);
  const columns = targetColumns(state, select, scope, ctes);
  const output: Scope = outputScope(scope, columns);
  visit(state, select.whereClause, scope, ctes);
  for (const clause of [select.groupClause, select.sortClause, select.distinctClause]) visit(state, clause, output, ctes);
  for (const clause of [select.havingClause, select.windowClause]) visit(state, clause, scope, ctes);
  for (const clause of [select.limitCount, select.limitOffset]) visit(state, clause, { ...EMPTY, outer }, ctes);
  return columns;
}

/** GROUP BY and ORDER BY may also name output columns; the output hides nothing and is never ambiguous. */
function outputScope(scope: Scope, columns: Columns): Scope {
  if (!columns) return { ...scope, ranges: [...scope.ranges, { name: '', columns: undefined }] };
  return { ...scope, outer: { ...EMPTY, ranges: [{ name: '', columns }], outer: scope.outer } };
}

function withCtes(state: State, select: SelectStmt, outer: Scope | undefined, outerCtes: Ctes): Ctes {
  const ctes = new Map(outerCtes);
  const clause = select.withClause!;
  for (const node of clause.ctes ?? []) {
    if (!('CommonTableExpr' in node)) continue;
    const cte = node.CommonTableExpr;
    const name = cte.ctename ?? '';
    const query = cte.ctequery && 'SelectStmt' in cte.ctequery ? cte.ctequery.SelectStmt : undefined;
    if (!query) {
      ctes.set(name, undefined);
      continue;
    }
    if (clause.recursive && query.larg) {
      const quiet: State = { ...state, problems: [] };
      ctes.set(name, undefined);
      ctes.set(name, renamed(cteColumns(cte), selectColumns(quiet, query.larg, outer, ctes)));
    }
    ctes.set(name, renamed(cteColumns(cte), selectColumns(state, query, outer, ctes)));
  }
  return ctes;
}

function cteColumns(cte: CommonTableExpr): readonly string[] {
  return strings(cte.aliascolnames);
}

function strings(nodes: readonly Node[] | undefined): string[] {
  const found: string[] = [];
  for (const n of nodes ?? []) if ('String' in n) found.push(n.String.sval ?? '');
  return found;
}

/** Columns under the names of an alias list; the rest keep theirs. */
function renamed(names: readonly string[], columns: Columns): Columns {
  if (!columns || names.length === 0) return columns;
  return columns.map((c, i) => (names[i] === undefined ? c : { ...c, name: names[i] }));
}

function setOperation(state: State, select: SelectStmt, outer: Scope | undefined, ctes: Ctes): Columns {
  const left = selectColumns(state, select.larg!, outer, ctes);
  const right = selectColumns(state, select.rarg!, outer, ctes);
  const columns =
    left && right
      ? left.map((c, i) => ({
          name: c.name,
          ...(c.type !== undefined && c.type === right[i]?.type ? { type: c.type } : {}),
          origins: union([c.origins, right[i]?.origins ?? []]),
        }))
      : left;
  if (left && right && left.length !== right.length) {
    const location = firstLocation(select.rarg) ?? 0;
    state.problems.push({ kind: 'arms', location, left: left.length, right: right.length });
  }
  visit(state, select.sortClause, outputScope({ ...EMPTY, outer }, columns), ctes);
  return columns;
}

function firstLocation(node: unknown): number | undefined {
  if (typeof node !== 'object' || node === null) return undefined;
  const own = (node as { location?: unknown }).location;
  if (typeof own === 'number') return own;
  for (const value of Object.values(node)) {
    const inner = firstLocation(value);
    if (inner !== undefined) return inner;
  }
  return undefined;
}

function targetColumns(state: State, select: SelectStmt, scope: Scope, ctes: Ctes): Columns {
  const columns: Column[] = [];
  let known = true;
  for (const node of select.targetList ?? []) {
    if (!('ResTarget' in node) || !node.ResTarget.val) continue;
    const { name, val } = node.ResTarget;
    if ('ColumnRef' in val && val.ColumnRef.fields?.some((f) => 'A_Star' in f)) {
      const expanded = starColumns(state, val.ColumnRef, scope);
      if (expanded) columns.push(...expanded);
      else known = false;
      continue;
    }
    const origins = visit(state, val, scope, ctes);
    const type = typeOf(val, scope);
    columns.push({ name: name ?? outputName(val), ...(type === undefined ? {} : { type }), origins });
  }
  return known ? columns : undefined;
}

/** The type where the text alone says it: a cast, or a column passed through. */
function typeOf(node: Node, scope: Scope): string | undefined {
  if ('TypeCast' in node && node.TypeCast.typeName) return typeText(node.TypeCast.typeName);
  if ('ColumnRef' in node) {
    const parts = strings(node.ColumnRef.fields);
    const found = lookUp(scope, parts);
    return found.kind === 'found' ? found.column.type : undefined;
  }
  if ('FuncCall' in node && strings(node.FuncCall.funcname).at(-1) === 'count') return 'bigint';
  return undefined;
}

function starColumns(state: State, ref: ColumnRef, scope: Scope): Columns {
  const parts = strings(ref.fields);
  if (parts.length === 0) return scope.star;
  const range = findRange(scope, parts);
  if (!range) {
    state.problems.push({ kind: 'unknown-range', location: ref.location ?? 0, parts, names: rangeNames(scope) });
    return undefined;
  }
  return range.columns;
}

// FROM -------------------------------------------------------------------------------------------

interface FromItem {
  readonly ranges: readonly RangeEntry[];
  readonly merged: ReadonlySet<string>;
  readonly star: Columns;
}

function fromScope(state: State, items: readonly Node[], outer: Scope | undefined, ctes: Ctes): Scope {
  let scope: Scope = { ...EMPTY, outer };
  for (const item of items) {
    const part = fromItem(state, item, scope, ctes);
    scope = { ...combine(scope, part), outer };
  }
  return scope;
}

function combine(a: FromItem, b: FromItem): FromItem {
  return {
    ranges: [...a.ranges, ...b.ranges],
    merged: new Set([...a.merged, ...b.merged]),
    star: a.star && b.star ? [...a.star, ...b.star] : undefined,
  };
}

function single(name: string, columns: Columns, schema?: string): FromItem {
  return { ranges: [{ name, columns, ...(schema === undefined ? {} : { schema }) }], merged: new Set(), star: columns };
}

/** @param left what stands to the left of the item: visible to lateral items only. */
function fromItem(state: State, node: Node, left: Scope, ctes: Ctes): FromItem {
  if ('RangeVar' in node) return tableItem(state, node.RangeVar, ctes);
  if ('RangeSubselect' in node) return subselectItem(state, node.RangeSubselect, left, ctes);
  if ('RangeFunction' in node) return functionItem(state, node.RangeFunction, left, ctes);
  if ('JoinExpr' in node) return joinItem(state, node.JoinExpr, left, ctes);
  if ('RangeTableSample' in node && node.RangeTableSample.relation) return fromItem(state, node.RangeTableSample.relation, left, ctes);
  return { ranges: [{ name: '', columns: undefined }], merged: new Set(), star: undefined };
}

function tableItem(state: State, range: RangeVar, ctes: Ctes): FromItem {
  const name = range.relname ?? '';
  const columns = range.schemaname === undefined ? (ctes.has(name) ? ctes.get(name) : undefined) : state.tableColumns(range.schemaname, name);
  return aliased(range.alias, single(name, columns, range.schemaname));
}

function aliased(alias: Alias | undefined, item: FromItem): FromItem {
  if (!alias?.aliasname) return item;
  return single(alias.aliasname, renamed(strings(alias.colnames), item.star));
}

function subselectItem(state: State, range: RangeSubselect, left: Scope, ctes: Ctes): FromItem {
  const query = range.subquery && 'SelectStmt' in range.subquery ? range.subquery.SelectStmt : undefined;
  const columns = query ? selectColumns(state, query, range.lateral ? left : left.outer, ctes) : undefined;
  return aliased(range.alias, single('', columns));
}

function functionItem(state: State, range: RangeFunction, left: Scope, ctes: Ctes): FromItem {
  visit(state, range.functions, left, ctes);
  const names = strings(range.alias?.colnames);
  const declared = (range.coldeflist ?? []).flatMap((n) => ('ColumnDef' in n ? [n.ColumnDef] : []));
  let columns: Columns;
  if (declared.length) {
    columns = declared.map((d) => ({ name: d.colname ?? '', ...(d.typeName ? { type: typeText(d.typeName) } : {}), origins: [] }));
  } else if (names.length) {
    columns = names.map((name) => ({ name, origins: [] }));
  }
  if (columns && range.ordinality && names.length === 0) columns = [...columns, { name: 'ordinality', type: 'bigint', origins: [] }];
  return single(range.alias?.aliasname ?? '', columns);
}

function joinItem(state: State, join: JoinExpr, left: Scope, ctes: Ctes): FromItem {
  const a = fromItem(state, join.larg!, left, ctes);
  const b = fromItem(state, join.rarg!, { ...combine(left, a), outer: left.outer }, ctes);
  const both = combine(a, b);
  let item: FromItem = both;
  const using = join.isNatural ? commonNames(a.star, b.star) : strings(join.usingClause);
  if (using === undefined) item = { ...both, star: undefined };
  else if (using.length) item = mergedJoin(state, join, a, b, using);
  visit(state, join.quals, { ...both, outer: left.outer }, ctes);
  return aliased(join.alias, item);
}

function commonNames(a: Columns, b: Columns): string[] | undefined {
  if (!a || !b) return undefined;
  const right = new Set(b.map((c) => c.name));
  return a.map((c) => c.name).filter((name) => right.has(name));
}

/** USING: the named columns come first and once. */
function mergedJoin(state: State, join: JoinExpr, a: FromItem, b: FromItem, using: readonly string[]): FromItem {
  const names = new Set(using);
  for (const [side, columns] of [a.star, b.star].entries()) {
    for (const name of using) {
      if (columns && !columns.some((c) => c.name === name)) {
        const location = firstLocation(side === 0 ? join.larg : join.rarg) ?? 0;
        state.problems.push({ kind: 'unknown', location, parts: [name], names: columns.map((c) => c.name) });
      }
    }
  }
  const star =
    a.star && b.star
      ? [
          ...using.flatMap((name) => a.star!.filter((c) => c.name === name).slice(0, 1)),
          ...a.star.filter((c) => !names.has(c.name)),
          ...b.star.filter((c) => !names.has(c.name)),
        ]
      : undefined;
  return { ranges: [...a.ranges, ...b.ranges], merged: new Set([...a.merged, ...b.merged, ...names]), star };
}

// Expressions ------------------------------------------------------------------------------------

/** Resolves every column reference below a node; returns the origins of what it is made from. */
function visit(state: State, node: unknown, scope: Scope, ctes: Ctes): readonly string[] {
  if (typeof node !== 'object' || node === null) return [];
  if (Array.isArray(node)) return union(node.map((item) => visit(state, item, scope, ctes)));
  const origins: (readonly string[])[] = [];
  for (const key in node) {
    const value = (node as Record<string, unknown>)[key];
    if (typeof value !== 'object' || value === null) continue;
    if (key === 'ColumnRef') origins.push(reference(state, value as ColumnRef, scope));
    else if (key === 'SelectStmt') {
      const columns = selectColumns(state, value as SelectStmt, scope, ctes);
      origins.push(union((columns ?? []).map((c) => c.origins)));
    } else if (key !== 'typeName') origins.push(visit(state, value, scope, ctes));
  }
  return union(origins);
}

function union(lists: readonly (readonly string[])[]): readonly string[] {
  const filled = lists.filter((l) => l.length > 0);
  if (filled.length < 2) return filled[0] ?? [];
  return [...new Set(filled.flat())];
}

function reference(state: State, ref: ColumnRef, scope: Scope): readonly string[] {
  const parts = strings(ref.fields);
  const location = ref.location ?? 0;
  if (ref.fields?.some((f) => 'A_Star' in f)) return [];
  const found = lookUp(scope, parts);
  switch (found.kind) {
    case 'found':
      return found.column.origins;
    case 'row':
      return union((found.columns ?? []).map((c) => c.origins));
    case 'uncertain':
      return [];
    case 'ambiguous':
      state.problems.push({ kind: 'ambiguous', location, parts, tables: found.tables });
      return [];
    case 'missing':
      state.problems.push({ kind: found.range ? 'unknown' : 'unknown-range', location, parts, names: found.names });
      return [];
  }
}

type Found =
  | { readonly kind: 'found'; readonly column: Column }
  | { readonly kind: 'row'; readonly columns: Columns }
  | { readonly kind: 'uncertain' }
  | { readonly kind: 'ambiguous'; readonly tables: readonly string[] }
  | { readonly kind: 'missing'; readonly range: boolean; readonly names: readonly string[] };

function lookUp(scope: Scope, parts: readonly string[]): Found {
  const column = parts.at(-1)!;
  if (parts.length > 1) {
    const range = findRange(scope, parts.slice(0, -1));
    if (!range) {
      // `a.b` may also be field b of a composite column a.
      const composite = parts.length === 2 ? lookUp(scope, parts.slice(0, 1)) : undefined;
      if (composite && composite.kind !== 'missing') return { kind: 'uncertain' };
      return { kind: 'missing', range: false, names: rangeNames(scope) };
    }
    if (!range.columns || SYSTEM_COLUMNS.has(column)) return { kind: 'uncertain' };
    const found = range.columns.find((c) => c.name === column);
    return found ? { kind: 'found', column: found } : { kind: 'missing', range: true, names: range.columns.map((c) => c.name) };
  }
  const names: string[] = [];
  let uncertain = false;
  for (let level: Scope | undefined = scope; level; level = level.outer) {
    const matches: { range: RangeEntry; column: Column }[] = [];
    for (const range of level.ranges) {
      if (!range.columns) uncertain = true;
      const found = range.columns?.find((c) => c.name === column);
      if (found) matches.push({ range, column: found });
      else names.push(...(range.columns ?? []).map((c) => c.name));
    }
    if (matches.length > 1 && !level.merged.has(column)) return { kind: 'ambiguous', tables: matches.map((m) => m.range.name) };
    if (matches.length) return { kind: 'found', column: matches[0]!.column };
    const row = level.ranges.find((r) => r.name === column);
    if (row) return { kind: 'row', columns: row.columns };
  }
  if (uncertain || SYSTEM_COLUMNS.has(column)) return { kind: 'uncertain' };
  return { kind: 'missing', range: true, names };
}

function findRange(scope: Scope, parts: readonly string[]): RangeEntry | undefined {
  const [schema, name] = parts.length === 2 ? parts : [undefined, parts[0]];
  for (let level: Scope | undefined = scope; level; level = level.outer) {
    const range = level.ranges.find((r) => r.name === name && (schema === undefined || r.schema === schema));
    if (range) return range;
  }
  return undefined;
}

function rangeNames(scope: Scope): string[] {
  const names: string[] = [];
  for (let level: Scope | undefined = scope; level; level = level.outer) names.push(...level.ranges.map((r) => r.name));
  return names.filter((n) => n !== '');
}
