import type { ColumnRef, CommonTableExpr, FuncCall, Node, SelectStmt } from 'libpg-query';
import { strings } from '../sql/nodes.js';
import type { MisplacedCall } from './problem.js';
import type { Ctes, Reader } from './reader.js';
import { lookUp, type Fields, type Scope } from './scope.js';

/**
 * Rules of PostgreSQL about where aggregates and window functions may stand, and what a grouped query may show. Where a
 * rule depends on what is not known here (a key of a stored table frees its columns), nothing is told.
 */
export function placementProblems(
  reader: Reader,
  select: SelectStmt,
  { scope, ctes, fields }: { readonly scope: Scope; readonly ctes: Ctes; readonly fields: Fields },
): void {
  const rules = new Placement(reader, select, scope);
  rules.within(select.whereClause, 'where');
  for (const condition of joinConditions(select.fromClause)) rules.within(condition, 'on');
  for (const key of select.groupClause ?? []) rules.within(key, 'group by');
  rules.within(select.havingClause, 'having');
  rules.nested([...(select.targetList ?? []), select.havingClause, ...(select.sortClause ?? [])]);
  rules.grouped(derivedItems(select.fromClause, ctes), fields);
}

/** Parts of a query that are looked at, over and over where calls nest; what is behind is not told. */
const MOST_LOOKED_AT = 100_000;

class Placement {
  private readonly walk = { left: MOST_LOOKED_AT };

  constructor(
    private readonly reader: Reader,
    private readonly select: SelectStmt,
    private readonly scope: Scope,
  ) {}

  /** Calls in a clause in which there are no groups yet, or no windows yet. */
  within(node: Node | undefined, clause: 'where' | 'on' | 'group by' | 'having'): void {
    if (!node) return;
    for (const call of this.calls(node)) {
      if (call.over) this.misplaced(call, 'window', clause);
      else if (clause !== 'having' && this.isOwnAggregate(call)) this.misplaced(call, 'aggregate', clause);
    }
  }

  /** Aggregates within aggregates, windows within either. */
  nested(nodes: readonly (Node | undefined)[]): void {
    for (const call of nodes.flatMap((n) => (n ? this.calls(n) : []))) {
      const isOwn = this.isOwnAggregate(call);
      if (!call.over && !isOwn) continue;
      for (const inner of this.calls([call.args, call.agg_filter])) {
        if (inner.over) this.misplaced(inner, 'window', isOwn ? 'aggregate' : 'window');
        else if (isOwn && this.isOwnAggregate(inner)) this.misplaced(inner, 'aggregate', 'aggregate');
      }
    }
  }

  /** Columns of a grouped query that are neither grouped nor aggregated. */
  grouped(derived: ReadonlySet<string>, fields: Fields): void {
    const { groupClause, havingClause, targetList = [], sortClause = [] } = this.select;
    const shown = [...targetList, ...(havingClause ? [havingClause] : []), ...sortClause];
    const isGrouped =
      groupClause !== undefined ||
      havingClause !== undefined ||
      this.calls(shown).some((call) => !call.over && this.isOwnAggregate(call));
    if (!isGrouped || joinsByName(this.select.fromClause)) return;
    const keys = this.keys();
    const outputs = new Set(fields?.map((f) => f.name));
    const look = (node: unknown): void => {
      if (typeof node !== 'object' || node === null || this.walk.left-- <= 0) return;
      if (keys.nodes.some((key) => isSame(key, node, this.walk))) return;
      if (Array.isArray(node)) return node.forEach(look);
      for (const [kind, value] of Object.entries(node as Record<string, unknown>)) {
        if (kind === 'SubLink' || kind === 'GroupingFunc') continue;
        if (kind === 'FuncCall' && !(value as FuncCall).over && isAggregate(this.reader, value as FuncCall)) continue;
        if (kind === 'ColumnRef') this.ungrouped(value as ColumnRef, { keys: keys.names, derived });
        else look(value);
      }
    };
    for (const node of targetList) look(node);
    look(havingClause);
    for (const node of sortClause) {
      const by = 'SortBy' in node ? node.SortBy.node : undefined;
      const name = by && 'ColumnRef' in by ? strings(by.ColumnRef.fields) : [];
      // A name alone is an output column's first.
      if (by && !(name.length === 1 && outputs.has(name[0]!))) look(by);
    }
  }

  private ungrouped(
    ref: ColumnRef,
    { keys, derived }: { readonly keys: ReadonlySet<string>; readonly derived: ReadonlySet<string> },
  ): void {
    const parts = strings(ref.fields);
    if (parts.length < (ref.fields?.length ?? 0)) return;
    const found = lookUp(this.scope, parts);
    if (found.kind !== 'found' || found.level !== this.scope) return;
    const ranges = this.scope.ranges.filter((r) =>
      parts.length > 1 ? r.name === parts.at(-2) : r.fields?.some((f) => f.name === parts[0]),
    );
    const [range] = ranges;
    if (ranges.length !== 1 || !range?.fields) return;
    // The key of a stored table, once grouped, frees its columns; which columns that is, is not known here.
    if (!derived.has(range.name) && range.fields.some((f) => keys.has(f.name))) return;
    this.reader.problems.push({ kind: 'ungrouped', location: ref.location ?? 0, parts });
  }

  private calls(node: unknown): FuncCall[] {
    return nodesIn(node, 'FuncCall', this.walk) as FuncCall[];
  }

  /** The last names and the expressions of what is grouped by; a number or a name may mean an output column. */
  private keys(): { readonly names: Set<string>; readonly nodes: Node[] } {
    const [names, nodes] = [new Set<string>(), [] as Node[]];
    const targets = (this.select.targetList ?? []).flatMap((n) => ('ResTarget' in n ? [n.ResTarget] : []));
    const add = (node: Node | undefined): void => {
      if (!node) return;
      if ('GroupingSet' in node) return node.GroupingSet.content?.forEach(add);
      if ('RowExpr' in node) node.RowExpr.args?.forEach(add);
      nodes.push(node);
      if ('ColumnRef' in node) {
        const parts = strings(node.ColumnRef.fields);
        names.add(parts.at(-1)!);
        if (parts.length === 1) for (const t of targets) if (t.name === parts[0] && t.val) nodes.push(t.val);
      }
      if ('A_Const' in node && node.A_Const.ival) {
        const target = targets[(node.A_Const.ival.ival ?? 0) - 1]?.val;
        if (target && !('A_Const' in target)) add(target);
      }
    };
    for (const node of this.select.groupClause ?? []) add(node);
    return { names, nodes };
  }

  /** Whether a call is an aggregate of this query, and not of one around it. */
  private isOwnAggregate(call: FuncCall): boolean {
    if (call.over || !isAggregate(this.reader, call)) return false;
    const refs = nodesIn([call.args, call.agg_filter, call.agg_order], 'ColumnRef', this.walk) as ColumnRef[];
    if (refs.length === 0) return true;
    return refs.some((ref) => {
      const found = lookUp(this.scope, strings(ref.fields));
      return (found.kind === 'found' || found.kind === 'row') && found.level === this.scope;
    });
  }

  private misplaced(call: FuncCall, what: MisplacedCall['what'], clause: MisplacedCall['clause']): void {
    const name = strings(call.funcname).at(-1)!;
    this.reader.problems.push({ kind: 'misplaced', location: call.location ?? 0, name, what, clause });
  }
}

/** The form of a recursion: a union, of which only the second part reads it, once. */
export function recursionProblems(reader: Reader, cte: CommonTableExpr): void {
  const name = cte.ctename ?? '';
  const query = cte.ctequery && 'SelectStmt' in cte.ctequery ? cte.ctequery.SelectStmt : undefined;
  const [first, ...more] = query ? mentionsOf(query, name) : [];
  if (!query || first === undefined) return;
  const told = (location: number, fault: 'no-union' | 'first-part' | 'twice') =>
    reader.problems.push({ kind: 'recursion', location, name, fault });
  if (query.op !== 'SETOP_UNION') return void told(first, 'no-union');
  const [begun] = mentionsOf(query.larg, name);
  if (begun !== undefined) told(begun, 'first-part');
  else if (more.length) told(more[0]!, 'twice');
}

/** Where a name stands as a table, unless something within has the same name. */
function mentionsOf(node: unknown, name: string): number[] {
  if (typeof node !== 'object' || node === null) return [];
  if (Array.isArray(node)) return node.flatMap((n) => mentionsOf(n, name));
  const within = (node as SelectStmt).withClause?.ctes ?? [];
  if (within.some((n) => 'CommonTableExpr' in n && n.CommonTableExpr.ctename === name)) return [];
  return Object.entries(node as Record<string, unknown>).flatMap(([kind, value]) => {
    if (kind === 'RangeVar') {
      const { schemaname, relname, location } = value as { schemaname?: string; relname?: string; location?: number };
      return schemaname === undefined && relname === name ? [location ?? 0] : [];
    }
    return mentionsOf(value, name);
  });
}

// Walking ----------------------------------------------------------------------------------------

interface Walk {
  left: number;
}

/** Nodes of a kind in an expression, outermost first; queries within it are their own. */
function nodesIn(node: unknown, kind: string, walk: Walk, found: unknown[] = []): unknown[] {
  if (typeof node !== 'object' || node === null || walk.left-- <= 0) return found;
  if (Array.isArray(node)) {
    for (const n of node) nodesIn(n, kind, walk, found);
    return found;
  }
  for (const [key, value] of Object.entries(node as Record<string, unknown>)) {
    if (key === 'SelectStmt' || key === 'subselect') continue;
    if (key === kind) found.push(value);
    nodesIn(value, kind, walk, found);
  }
  return found;
}

/** Whether all functions of a name are aggregates. */
function isAggregate(reader: Reader, call: FuncCall): boolean {
  if (call.agg_star || call.agg_within_group || call.agg_distinct || call.agg_filter) return true;
  const names = strings(call.funcname);
  if (names.length > 1 && names[0] !== 'pg_catalog') return false;
  const known = reader.catalog.functions(names.at(-1)!);
  return known.length > 0 && known.every((f) => f.kind === 'a');
}

const lastName = (ref: ColumnRef) => strings(ref.fields).at(-1);

/** Whether two parts of a query say the same, wherever they stand. */
function isSame(a: unknown, b: unknown, walk: Walk): boolean {
  if (typeof a !== 'object' || typeof b !== 'object' || a === null || b === null) return a === b;
  if (walk.left-- <= 0) return false;
  // A column may be written with its table or without.
  if ('ColumnRef' in a && 'ColumnRef' in b)
    return lastName(a.ColumnRef as ColumnRef) === lastName(b.ColumnRef as ColumnRef);
  const keysOf = (of: object) => Object.keys(of).filter((k) => k !== 'location');
  const keys = keysOf(a);
  return (
    keys.length === keysOf(b).length &&
    keys.every((k) => isSame((a as Record<string, unknown>)[k], (b as Record<string, unknown>)[k], walk))
  );
}

function joinConditions(nodes: readonly Node[] | undefined): Node[] {
  return (nodes ?? []).flatMap((node): Node[] => {
    if (!('JoinExpr' in node)) return [];
    const { larg, rarg, quals } = node.JoinExpr;
    return [...joinConditions([larg, rarg].flatMap((n) => n ?? [])), ...(quals ? [quals] : [])];
  });
}

/** Whether columns of two tables are one, or a join bears a name of its own: then whose a column is, is not followed. */
function joinsByName(nodes: readonly Node[] | undefined): boolean {
  return (nodes ?? []).some((node) => {
    if (!('JoinExpr' in node)) return false;
    const { larg, rarg, usingClause, isNatural, alias } = node.JoinExpr;
    return Boolean(usingClause || isNatural || alias) || joinsByName([larg, rarg].flatMap((n) => n ?? []));
  });
}

/** The names of items of FROM that are no stored tables. */
function derivedItems(nodes: readonly Node[] | undefined, ctes: Ctes, found = new Set<string>()): Set<string> {
  for (const node of nodes ?? []) {
    if ('JoinExpr' in node)
      derivedItems(
        [node.JoinExpr.larg, node.JoinExpr.rarg].flatMap((n) => n ?? []),
        ctes,
        found,
      );
    if ('RangeSubselect' in node) found.add(node.RangeSubselect.alias?.aliasname ?? '');
    if ('RangeVar' in node) {
      const { schemaname, relname = '', alias } = node.RangeVar;
      if (schemaname === undefined && ctes.has(relname)) found.add(alias?.aliasname ?? relname);
    }
  }
  return found;
}
