import type { Node } from 'libpg-query';
import { strings } from '../sql/nodes.js';
import { parseSql } from '../sql/parser.js';
import { plainIdent } from '../sql/quote.js';
import { eachNode } from './conditions.js';
import type { PlanNode } from './plan.js';

/** What is known of a scanned table beside the plan. */
export interface ScannedTable {
  /** The project's name of it. */
  readonly table: string;
  /** Whether its definition can declare an index. */
  readonly canHaveIndex: boolean;
  /** The first columns of its indexes. */
  readonly indexed: readonly string[];
  /** Columns of varying length that PostgreSQL writes with a cast to text, which costs nothing. */
  readonly varying: readonly string[];
  /** Rows that changed since its statistics were taken, as a share; 1 where there are none. */
  readonly staleShare: number;
}

/** What would make a query faster, and why. */
export interface Advice {
  readonly kind: 'index' | 'cast' | 'statistics';
  /** The node that it is about. */
  readonly node: number;
  readonly table: string;
  readonly reason: string;
  /** A statement for the end of the table's definition. */
  readonly statement?: string;
}

/**
 * Where an index was measured to be at least three times as fast as reading the table: a million rows in no order, all in
 * memory, on PostgreSQL 15: 0.1 % of the rows kept 48 times, 1 % 8 times, 5 % 3.2 times, 20 % 1.7 times.
 */
const FEW = 0.05;
/** Fewer rows are read in a millisecond. */
const LEAST_ROWS = 50_000;
/** A scan that is of no weight in the whole is left alone. */
const LEAST_SHARE = 0.1;
/** Rows that are read again for each row of the other side: 1,000 times 5,000 took 466 ms, with an index 1 ms. */
const LEAST_LOOPS = 100;
/** An estimate that is wrong by more leads to another plan often enough to be worth a look. */
const WRONG = 10;
/** PostgreSQL itself takes statistics again behind this share. */
const STALE = 0.1;

/** Advice on a plan that was run, the most time first. @param tableOf what is known of the table that a node scans */
export function adviceOn(nodes: readonly PlanNode[], tableOf: (node: PlanNode) => ScannedTable | undefined): Advice[] {
  const whole = Math.max(...nodes.map((n) => n.totalTime ?? 0));
  const found = nodes.flatMap((node): { advice: Advice; time: number }[] => {
    const table = node.relation && tableOf(node);
    if (!table || node.rows === undefined) return [];
    const advice =
      statistics(node, table) ??
      ((node.ownTime ?? 0) >= whole * LEAST_SHARE ? indexFor(nodes, node, table) : undefined);
    return advice ? [{ advice, time: node.ownTime ?? 0 }] : [];
  });
  return found.sort((a, b) => b.time - a.time).map((f) => f.advice);
}

function statistics(node: PlanNode, { table, staleShare }: ScannedTable): Advice | undefined {
  const [estimated, rows] = [Math.max(1, node.estimatedRows * (node.loops ?? 1)), Math.max(1, node.rows!)];
  const factor = Math.max(estimated / rows, rows / estimated);
  if (factor <= WRONG || Math.max(estimated, rows) < LEAST_ROWS / WRONG || staleShare < STALE) return undefined;
  return {
    kind: 'statistics',
    node: node.id,
    table,
    reason: `The planner expects ${said(estimated)} rows and there are ${said(rows)}: ${Math.round(staleShare * 100)} % of the table has changed since its statistics were taken.`,
    statement: `analyze ${table};`,
  };
}

function indexFor(nodes: readonly PlanNode[], node: PlanNode, of: ScannedTable): Advice | undefined {
  if (node.type !== 'seq scan') return undefined;
  const scanned = node.rows! + (node.removed ?? 0);
  const parent = nodes.find((n) => n.id === node.parent);
  const isRepeated =
    (node.loops ?? 1) >= LEAST_LOOPS && parent?.joinFilter !== undefined && parent.type.startsWith('nested loop');
  if (scanned < LEAST_ROWS || !(isRepeated || (node.filter !== undefined && node.rows! <= scanned * FEW)))
    return undefined;
  const compared = comparedColumns(isRepeated ? parent.joinFilter : node.filter!, {
    alias: node.alias,
    varying: of.varying,
  });
  const how = isRepeated
    ? `${of.table} is read ${said(node.loops!)} times, ${said(scanned)} rows in all`
    : `${said(scanned)} rows of ${of.table} are read to keep ${said(node.rows!)}`;
  const wrapped = compared.find((c) => c.isWrapped && of.indexed.includes(c.column));
  if (wrapped)
    return {
      kind: 'cast',
      node: node.id,
      table: of.table,
      reason: `${how}. There is an index on ${wrapped.column}, but the condition compares ${wrapped.text}: compare the column itself.`,
    };
  const plain = compared.find((c) => !c.isWrapped);
  if (!plain || of.indexed.includes(plain.column) || !of.canHaveIndex) return undefined;
  return {
    kind: 'index',
    node: node.id,
    table: of.table,
    reason: `${how}; an index on ${plain.column} finds them.`,
    statement: `create index on ${of.table.split('.').map(plainIdent).join('.')} (${plainIdent(plain.column)});`,
  };
}

const said = (n: number) => Math.round(n).toLocaleString('en');

interface Compared {
  readonly column: string;
  /** A cast or a function is around it. */
  readonly isWrapped: boolean;
  readonly text: string;
}

interface Scan {
  readonly alias: string | undefined;
  readonly varying: readonly string[];
}

const COMPARING = new Set(['=', '<', '<=', '>', '>=']);

/** The columns of a table that a condition compares with something else, equalities first. */
function comparedColumns(condition: string, scan: Scan): Compared[] {
  const [statement] = parseSql(`select where ${condition}`).statements;
  const node = statement?.node;
  const where = node && 'SelectStmt' in node ? node.SelectStmt.whereClause : undefined;
  if (!where) return [];
  const conditions =
    'BoolExpr' in where && where.BoolExpr.boolop === 'AND_EXPR' ? (where.BoolExpr.args ?? []) : [where];
  const found = conditions.flatMap((c): (Compared & { readonly isEqual: boolean })[] => {
    if (!('A_Expr' in c)) return [];
    const operator = strings(c.A_Expr.name).at(-1) ?? '';
    if (!COMPARING.has(operator)) return [];
    const sides = [c.A_Expr.lexpr, c.A_Expr.rexpr];
    return sides.flatMap((side, i) => {
      const own = side && columnOf(side, scan);
      return own && !hasColumn(sides[1 - i], scan) ? [{ ...own, isEqual: operator === '=' }] : [];
    });
  });
  return found.sort((a, b) => Number(b.isEqual) - Number(a.isEqual));
}

/** The only column of a side, where it is the table's. */
function columnOf(side: Node, { alias, varying }: Scan): Compared | undefined {
  const columns: string[][] = [];
  eachNode(side, (kind, value) => {
    if (kind === 'ColumnRef') columns.push(strings((value as { fields?: Node[] }).fields));
  });
  const [only] = columns;
  if (columns.length !== 1 || !only || !isOwn(only, alias)) return undefined;
  const column = only.at(-1)!;
  const isWrapped = !('ColumnRef' in side) && !('TypeCast' in side && varying.includes(column));
  const around = 'TypeCast' in side ? 'a cast of it' : 'what a function makes of it';
  return { column, isWrapped, text: isWrapped ? around : column };
}

const isOwn = (names: readonly string[], alias: string | undefined) =>
  names.length === 1 || alias === undefined || names.at(-2) === alias;

function hasColumn(side: Node | undefined, { alias }: Scan): boolean {
  let found = false;
  eachNode(side && [side], (kind, value) => {
    if (kind === 'ColumnRef' && isOwn(strings((value as { fields?: Node[] }).fields), alias)) found = true;
  });
  return found;
}
