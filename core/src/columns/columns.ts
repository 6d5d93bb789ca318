import type {
  Alias,
  ColumnRef,
  CommonTableExpr,
  JoinExpr,
  Node,
  RangeFunction,
  RangeSubselect,
  RangeVar,
  SelectStmt,
} from 'libpg-query';
import type { Column } from '../model/project.js';
import { strings } from '../sql/nodes.js';
import { FUNCTIONS_SCHEMA } from '../index/mentions.js';
import { typeText } from '../sql/types.js';
import { outputName } from './output-name.js';
import {
  combine,
  EMPTY,
  findRange,
  lookUp,
  outputScope,
  rangeNames,
  single,
  within,
  type Columns,
  type FromItem,
  type Scope,
  type RangeEntry,
} from './scope.js';

/**
 * Resolves the columns of a query: names, known types, and the project's columns that give each
 * value. What cannot be known (a function's columns, a table that does not exist) is undefined and
 * never reported twice.
 */
export type ColumnProblem =
  | {
      readonly kind: 'unknown';
      readonly location: number;
      readonly parts: readonly string[];
      readonly names: readonly string[];
    }
  | {
      readonly kind: 'ambiguous';
      readonly location: number;
      readonly parts: readonly string[];
      readonly tables: readonly string[];
    }
  | {
      readonly kind: 'unknown-range';
      readonly location: number;
      readonly parts: readonly string[];
      readonly names: readonly string[];
    }
  | { readonly kind: 'arms'; readonly location: number; readonly left: number; readonly right: number }
  | { readonly kind: 'alias'; readonly location: number; readonly name: string }
  | {
      readonly kind: 'names';
      readonly location: number;
      readonly table: string;
      readonly given: number;
      readonly columns: number;
    }
  | {
      readonly kind: 'using';
      readonly location: number;
      readonly name: string;
      readonly tables: readonly string[];
      readonly names: readonly string[];
    };

export interface ColumnResolution {
  readonly columns: Columns;
  readonly problems: readonly ColumnProblem[];
}

type Ctes = ReadonlyMap<string, Columns>;
const NO_CTES: Ctes = new Map();

interface State {
  readonly tableColumns: (layer: string, name: string) => Columns;
  readonly functionType: (name: string) => string | undefined;
  problems: ColumnProblem[];
}

/**
 * @param tableColumns the columns of a table of the project, undefined if unknown.
 * @param functionType the type that a function of the project declares
 */
export function resolveColumns(
  select: SelectStmt,
  tableColumns: State['tableColumns'],
  functionType: State['functionType'] = () => undefined,
): ColumnResolution {
  const state: State = { tableColumns, functionType, problems: [] };
  const columns = selectColumns(state, select, undefined, NO_CTES);
  return { columns, problems: state.problems };
}

/** The column names that an expression (a contract's check) mentions but `columns` lacks. */
export function resolveExpression(expression: Node, ranges: readonly RangeEntry[]): readonly ColumnProblem[] {
  const state: State = { tableColumns: () => undefined, functionType: () => undefined, problems: [] };
  const scope: Scope = { ...EMPTY, ranges };
  visit(state, expression, scope, NO_CTES, undefined);
  return state.problems;
}

function selectColumns(state: State, select: SelectStmt, outer: Scope | undefined, outerCtes: Ctes): Columns {
  const ctes = select.withClause ? withCtes(state, select, outer, outerCtes) : outerCtes;
  if (select.op && select.op !== 'SETOP_NONE') return setOperation(state, select, outer, ctes);
  if (select.valuesLists) {
    const rows = select.valuesLists.map((row) => ('List' in row ? (row.List.items ?? []) : []));
    const scope = within(EMPTY, outer);
    const origins = rows.map((row) => row.map((item) => originsOf(state, item, scope, ctes)));
    return (rows[0] ?? []).map((_, i) => ({
      name: `column${i + 1}`,
      type: undefined,
      origins: union(origins.map((row) => row[i] ?? [])),
    }));
  }
  const scope = fromScope(state, select.fromClause ?? [], outer, ctes);
  const columns = targetColumns(state, select, scope, ctes);
  visit(state, select.whereClause, scope, ctes, undefined);
  if (select.groupClause || select.sortClause || select.distinctClause) {
    const output = outputScope(scope, columns);
    visit(state, select.groupClause, output, ctes, undefined);
    visit(state, select.sortClause, output, ctes, undefined);
    visit(state, select.distinctClause, output, ctes, undefined);
  }
  visit(state, select.havingClause, scope, ctes, undefined);
  visit(state, select.windowClause, scope, ctes, undefined);
  if (select.limitCount || select.limitOffset) {
    const constants = within(EMPTY, outer);
    visit(state, select.limitCount, constants, ctes, undefined);
    visit(state, select.limitOffset, constants, ctes, undefined);
  }
  return columns;
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
    const columns = selectColumns(state, query, outer, ctes);
    const given = cteColumns(cte);
    if (columns && given.length > columns.length)
      state.problems.push({
        kind: 'names',
        location: cte.location ?? 0,
        table: name,
        given: given.length,
        columns: columns.length,
      });
    ctes.set(name, renamed(given, columns));
  }
  return ctes;
}

function cteColumns(cte: CommonTableExpr): readonly string[] {
  return strings(cte.aliascolnames);
}

/** Columns under the names of an alias list; the rest keep theirs. */
function renamed(names: readonly string[], columns: Columns): Columns {
  if (!columns || names.length === 0) return columns;
  return columns.map((c, i) => (names[i] === undefined ? c : { ...c, name: names[i] }));
}

function setOperation(state: State, select: SelectStmt, outer: Scope | undefined, ctes: Ctes): Columns {
  const left = selectColumns(state, select.larg!, outer, ctes);
  const right = selectColumns(state, select.rarg!, outer, ctes);
  // Where the second part is not known, the names are the first's, and the types are not known.
  const columns = left?.map((c, i) => ({
    name: c.name,
    type: c.type === right?.[i]?.type ? c.type : undefined,
    origins: union([c.origins, right?.[i]?.origins ?? []]),
  }));
  if (left && right && left.length !== right.length) {
    const location = firstLocation(select.rarg) ?? 0;
    state.problems.push({ kind: 'arms', location, left: left.length, right: right.length });
  }
  visit(state, select.sortClause, outputScope(within(EMPTY, outer), columns), ctes, undefined);
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
    if ('ColumnRef' in val && isStar(val.ColumnRef)) {
      const expanded = starColumns(state, val.ColumnRef, scope);
      if (expanded) columns.push(...expanded);
      else known = false;
      continue;
    }
    columns.push(targetColumn(state, name, val, scope, ctes));
  }
  return known ? columns : undefined;
}

function isStar({ fields }: ColumnRef): boolean {
  const last = fields?.at(-1);
  return last !== undefined && 'A_Star' in last;
}

function targetColumn(state: State, name: string | undefined, value: Node, scope: Scope, ctes: Ctes): Column {
  // Most items are columns passed through: looked up once, for the type and the origins.
  if ('ColumnRef' in value) {
    const parts = strings(value.ColumnRef.fields);
    const found = lookUp(scope, parts);
    if (found.kind === 'found')
      return { name: name ?? parts.at(-1)!, type: found.column.type, origins: found.column.origins };
  }
  return {
    name: name ?? outputName(value),
    type: typeOf(state, value, scope),
    origins: originsOf(state, value, scope, ctes),
  };
}

/** The type where the text alone says it: a cast, a column passed through, a function whose type is known. */
function typeOf(state: State, node: Node, scope: Scope): string | undefined {
  if ('TypeCast' in node && node.TypeCast.typeName) return typeText(node.TypeCast.typeName);
  if ('ColumnRef' in node) {
    const parts = strings(node.ColumnRef.fields);
    const found = lookUp(scope, parts);
    return found.kind === 'found' ? found.column.type : undefined;
  }
  if ('FuncCall' in node) {
    const names = strings(node.FuncCall.funcname);
    if (names.length === 2 && names[0] === FUNCTIONS_SCHEMA) return state.functionType(names[1]!);
    if (names.length === 2 && names[0] !== 'pg_catalog') return undefined;
    const name = names.at(-1) ?? '';
    if (!TEXT_OF_TEXT.has(name)) return RESULT_TYPES.get(name);
    const [first] = node.FuncCall.args ?? [];
    return first ? textAmong(state, [first], scope) : undefined;
  }
  if ('A_Expr' in node && node.A_Expr.kind === 'AEXPR_NULLIF' && node.A_Expr.lexpr)
    return textOnly(typeOf(state, node.A_Expr.lexpr, scope));
  if ('CoalesceExpr' in node) return textAmong(state, node.CoalesceExpr.args ?? [], scope);
  if ('CaseExpr' in node) {
    const results: Node[] = [];
    for (const when of node.CaseExpr.args ?? [])
      if ('CaseWhen' in when && when.CaseWhen.result) results.push(when.CaseWhen.result);
    if (node.CaseExpr.defresult) results.push(node.CaseExpr.defresult);
    return textAmong(state, results, scope);
  }
  return undefined;
}

/** Functions whose result has one type, whatever they are given. */
const RESULT_TYPES: ReadonlyMap<string, string> = new Map([
  ['count', 'bigint'],
  ['row_number', 'bigint'],
  ['initcap', 'text'],
  ['replace', 'text'],
  ['regexp_replace', 'text'],
  ['split_part', 'text'],
  ['to_char', 'text'],
]);

/** Functions that give text of text; of ranges and bytes they give something else. */
const TEXT_OF_TEXT: ReadonlySet<string> = new Set(['trim', 'btrim', 'ltrim', 'rtrim', 'lower', 'upper']);

const textOnly = (type: string | undefined) => (type === 'text' ? type : undefined);

/** Text where something is known to be text and all the rest is text or a quoted constant; other types carry modifiers that only PostgreSQL settles. */
function textAmong(state: State, nodes: readonly Node[], scope: Scope): string | undefined {
  let isText = false;
  for (const node of nodes) {
    if ('A_Const' in node && (node.A_Const.sval !== undefined || node.A_Const.isnull)) continue;
    if (typeOf(state, node, scope) !== 'text') return undefined;
    isText = true;
  }
  return isText ? 'text' : undefined;
}

function starColumns(state: State, ref: ColumnRef, scope: Scope): Columns {
  const parts = strings(ref.fields);
  if (parts.length === 0) return scope.star;
  const range = findRange(scope, parts.at(-1)!, parts.length === 2 ? parts[0] : undefined);
  if (!range) {
    state.problems.push({ kind: 'unknown-range', location: ref.location ?? 0, parts, names: rangeNames(scope) });
    return undefined;
  }
  return range.columns;
}

// FROM -------------------------------------------------------------------------------------------

function fromScope(state: State, items: readonly Node[], outer: Scope | undefined, ctes: Ctes): Scope {
  let scope = within(EMPTY, outer);
  for (const item of items) scope = within(combine(scope, fromItem(state, item, scope, ctes)), outer);
  if (scope.ranges.length > 1) reportAliases(state, items, scope);
  return scope;
}

/** Two tables of one FROM that bear the same name; of one name in two schemas, without aliases, both are plain. */
function reportAliases(state: State, items: readonly Node[], { ranges }: Scope): void {
  const seen = new Map<string, (string | undefined)[]>();
  for (const { name, schema } of ranges) {
    if (name === '') continue;
    const before = seen.get(name) ?? [];
    if (before.some((other) => other === undefined || schema === undefined || other === schema))
      state.problems.push({
        kind: 'alias',
        location: locationsOf(items, name).at(-1) ?? firstLocation(items) ?? 0,
        name,
      });
    seen.set(name, [...before, schema]);
  }
}

/** Where FROM items of a name stand, in their order. */
function locationsOf(items: readonly Node[], name: string): number[] {
  return items.flatMap((node): number[] => {
    if ('RangeVar' in node)
      return (node.RangeVar.alias?.aliasname ?? node.RangeVar.relname) === name ? [node.RangeVar.location ?? 0] : [];
    if ('RangeSubselect' in node)
      return node.RangeSubselect.alias?.aliasname === name ? [firstLocation(node.RangeSubselect.subquery) ?? 0] : [];
    if ('JoinExpr' in node) return locationsOf([node.JoinExpr.larg!, node.JoinExpr.rarg!], name);
    return [];
  });
}

/** @param left what stands to the left of the item: visible to lateral items only. */
function fromItem(state: State, node: Node, left: Scope, ctes: Ctes): FromItem {
  if ('RangeVar' in node) return tableItem(state, node.RangeVar, ctes);
  if ('RangeSubselect' in node) return subselectItem(state, node.RangeSubselect, left, ctes);
  if ('RangeFunction' in node) return functionItem(state, node.RangeFunction, left, ctes);
  if ('JoinExpr' in node) return joinItem(state, node.JoinExpr, left, ctes);
  if ('RangeTableSample' in node && node.RangeTableSample.relation)
    return fromItem(state, node.RangeTableSample.relation, left, ctes);
  return single('', undefined);
}

function tableItem(state: State, range: RangeVar, ctes: Ctes): FromItem {
  const name = range.relname ?? '';
  const columns =
    range.schemaname === undefined
      ? ctes.has(name)
        ? ctes.get(name)
        : undefined
      : state.tableColumns(range.schemaname, name);
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
  visit(state, range.functions, left, ctes, undefined);
  const names = strings(range.alias?.colnames);
  const declared = (range.coldeflist ?? []).flatMap((n) => ('ColumnDef' in n ? [n.ColumnDef] : []));
  let columns: Columns;
  if (declared.length) {
    columns = declared.map((d) => ({ name: d.colname ?? '', type: d.typeName && typeText(d.typeName), origins: [] }));
  } else if (names.length) {
    columns = names.map((name) => ({ name, type: undefined, origins: [] }));
  }
  if (columns && range.ordinality && names.length === 0)
    columns = [...columns, { name: 'ordinality', type: 'bigint', origins: [] }];
  return single(range.alias?.aliasname ?? '', columns);
}

function joinItem(state: State, join: JoinExpr, left: Scope, ctes: Ctes): FromItem {
  const a = fromItem(state, join.larg!, left, ctes);
  const b = fromItem(state, join.rarg!, within(combine(left, a), left.outer), ctes);
  const both = combine(a, b);
  let item: FromItem = both;
  const using = join.isNatural ? commonNames(a.star, b.star) : strings(join.usingClause);
  if (using === undefined) item = { ...both, star: undefined };
  else if (using.length) item = mergedJoin(state, join, a, b, using);
  visit(state, join.quals, within(both, left.outer), ctes, undefined);
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
  const sides = [a, b].map(
    (side) =>
      side.ranges
        .map((r) => r.name)
        .filter((n) => n !== '')
        .join(', ') || 'the query',
  );
  for (const [side, columns] of [a.star, b.star].entries()) {
    for (const name of using) {
      if (!columns || columns.some((c) => c.name === name)) continue;
      // The names of USING carry no location: the diagnostic finds their token behind this one.
      const location = firstLocation(side === 0 ? join.larg : join.rarg) ?? 0;
      state.problems.push({
        kind: 'using',
        location,
        name,
        tables: [sides[side]!, sides[1 - side]!],
        names: columns.map((c) => c.name),
      });
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

/** The project's columns that an expression is made from. */
function originsOf(state: State, node: Node, scope: Scope, ctes: Ctes): readonly string[] {
  const into: string[] = [];
  visit(state, node, scope, ctes, into);
  return into.length < 2 ? into : [...new Set(into)];
}

function union(lists: readonly (readonly string[])[]): readonly string[] {
  const all = lists.flat();
  return all.length < 2 ? all : [...new Set(all)];
}

/** Resolves every column reference below a node; their origins are added to `into`. */
function visit(state: State, node: unknown, scope: Scope, ctes: Ctes, into: string[] | undefined): void {
  if (typeof node !== 'object' || node === null) return;
  if (Array.isArray(node)) {
    for (const item of node) visit(state, item, scope, ctes, into);
    return;
  }
  for (const key in node) {
    const value = (node as Record<string, unknown>)[key];
    if (typeof value !== 'object' || value === null) continue;
    switch (key) {
      case 'ColumnRef':
        reference(state, value as ColumnRef, scope, into);
        break;
      case 'SelectStmt':
        for (const column of selectColumns(state, value as SelectStmt, scope, ctes) ?? [])
          into?.push(...column.origins);
        break;
      // Nothing in these is a column.
      case 'typeName':
      case 'A_Const':
      case 'funcname':
      case 'name':
        break;
      default:
        visit(state, value, scope, ctes, into);
    }
  }
}

function reference(state: State, ref: ColumnRef, scope: Scope, into: string[] | undefined): void {
  const parts = strings(ref.fields);
  const location = ref.location ?? 0;
  if (parts.length < (ref.fields?.length ?? 0)) return; // a star
  const found = lookUp(scope, parts);
  switch (found.kind) {
    case 'found':
      into?.push(...found.column.origins);
      return;
    case 'row':
      for (const column of found.columns ?? []) into?.push(...column.origins);
      return;
    case 'uncertain':
      return;
    case 'ambiguous':
      state.problems.push({ kind: 'ambiguous', location, parts, tables: found.tables });
      return;
    case 'missing':
      state.problems.push({ kind: found.range ? 'unknown' : 'unknown-range', location, parts, names: found.names });
  }
}
