import { projectAround } from '../columns/around.js';
import { traceColumns, type TracedColumns } from '../columns/columns.js';
import type { Step } from '../columns/value.js';
import type { Definition, Project } from '../model/project.js';
import { expressionRange } from '../sql/expression-range.js';
import { lineColumn } from '../sql/positions.js';
import type { Range } from '../sql/positions.js';
import { partsOfId, rowsId, type WayKind } from './edges.js';
import { lineageOf } from './graph.js';

/** An expression of the author's, with its place. */
export interface Expression extends Range {
  /** The column that it makes, of the table or of a query inside of it. */
  readonly name: string;
  readonly text: string;
  readonly path: string;
  readonly line: number;
}

/** One column on a way, with how it is made. */
export interface Station {
  readonly id: string;
  readonly table: string;
  readonly column: string;
  readonly type?: string;
  readonly kind: WayKind;
  /** Columns from the one that was asked for. */
  readonly distance: number;
  /** What makes it, the table's own expression first, then those of queries inside of it. */
  readonly expressions: readonly Expression[];
  readonly value: readonly string[];
  readonly influence: readonly string[];
  /** What decides which rows its table has. */
  readonly rows: readonly string[];
}

/** The way back of a column to where its values come from: each column that gives its value, nearest first. */
export function wayBack(project: Project, id: string): readonly Station[] {
  const lineage = lineageOf(project);
  return walk(id, (at) => lineage.edges(at)?.value ?? []).flatMap(
    ([at, distance]) => station(project, at, distance) ?? [],
  );
}

/** A column with how it is made; undefined where there is none. */
export function station(project: Project, id: string, distance = 0): Station | undefined {
  const lineage = lineageOf(project);
  const { table, column } = partsOfId(project, id);
  const edges = lineage.edges(id);
  if (!edges) return undefined;
  const type = project.columns.get(table)?.find((c) => c.name === column)?.type;
  return {
    id,
    table,
    column,
    ...(type === undefined ? {} : { type }),
    kind: edges.kind,
    distance,
    expressions: expressionsOf(project, table, column),
    value: edges.value,
    influence: edges.influence,
    rows: lineage.rows(table),
  };
}

/** All that a column reaches. */
export interface Reached {
  /** Columns whose value it gives, directly or through others, nearest first. */
  readonly values: readonly { readonly id: string; readonly distance: number }[];
  /** Columns that it influences only. */
  readonly influenced: readonly string[];
  /** Tables whose rows it decides. */
  readonly rows: readonly string[];
}

/** What a column, or the rows of a table (`layer.table.*`), feeds. */
export function wayForward(project: Project, id: string): Reached {
  const lineage = lineageOf(project);
  const values = walk(id, (at) => lineage.fed(at).value).slice(1);
  const given = new Set([id, ...values.map(([at]) => at)]);
  const influenced = new Set<string>();
  const rows = new Set<string>();
  // What is influenced has other values, and these go on.
  const open = [...given];
  const seen = new Set(open);
  for (let at = open.pop(); at !== undefined; at = open.pop()) {
    const fed = lineage.fed(at);
    const next = [...fed.influence, ...(given.has(at) ? [] : fed.value)];
    for (const column of next) if (!given.has(column)) influenced.add(column);
    for (const table of fed.rows) rows.add(table);
    for (const to of [...next, ...fed.rows.map(rowsId)]) {
      if (seen.has(to)) continue;
      seen.add(to);
      open.push(to);
    }
  }
  return {
    values: values.map(([at, distance]) => ({ id: at, distance })),
    influenced: [...influenced],
    rows: [...rows],
  };
}

/** All that is reached from a place, with its distance, nearest first; the place itself with 0. */
function walk(start: string, next: (id: string) => readonly string[]): [string, number][] {
  const found = new Map<string, number>([[start, 0]]);
  const open = [start];
  for (let i = 0; i < open.length; i++) {
    const distance = found.get(open[i]!)! + 1;
    for (const to of next(open[i]!)) {
      if (found.has(to)) continue;
      found.set(to, distance);
      open.push(to);
    }
  }
  return [...found];
}

/**
 * The columns whose values are a column's own, unchanged, from the one asked for to where it begins. A column that two
 * give, or that anything is done to, begins there.
 */
export function untouchedWay(project: Project, id: string): readonly string[] {
  const lineage = lineageOf(project);
  const way = [id];
  for (;;) {
    const edges = lineage.edges(way.at(-1)!);
    const [origin, ...others] = edges?.kind === 'copied' ? edges.value : [];
    if (origin === undefined || others.length || way.includes(origin)) return way;
    way.push(origin);
  }
}

const traced = new WeakMap<Definition, { readonly project: Project; readonly columns: TracedColumns }>();

/** The expressions of a definition's query, by column. */
export function tracedColumns(project: Project, table: Definition): TracedColumns | undefined {
  if (!table.query) return undefined;
  const known = traced.get(table);
  if (known?.project === project) return known.columns;
  const around = projectAround((name) => project.columns.get(name), project.functions);
  const columns = traceColumns(table.query.select, around);
  traced.set(table, { project, columns });
  return columns;
}

function expressionsOf(project: Project, name: string, column: string): readonly Expression[] {
  const table = project.tables.get(name);
  if (table?.kind !== 'definition') return [];
  const step = tracedColumns(project, table)?.columns?.find((c) => c.name === column)?.step;
  const file = project.files.get(table.path);
  if (!step || !file?.at) return [];
  const found = new Map<number, Expression>();
  for (const { name: made, location } of flattened(step)) {
    if (location === undefined || found.has(location)) continue;
    const range = expressionRange(file.text, file.at(location), made);
    const text = file.text.slice(range.start, range.end);
    found.set(location, {
      name: made,
      text,
      path: table.path,
      line: lineColumn(file.text, range.start).line,
      ...range,
    });
  }
  return [...found.values()];
}

/** A step and those inside of it, outermost first. */
export function flattened(step: Step): Step[] {
  const found = new Set<Step>([step]);
  // What is added while it is gone through is gone through as well.
  for (const at of found) for (const used of at.uses) found.add(used);
  return [...found];
}
