import { dimensionsOf } from '../graph/inputs.js';
import type { Diagnostic } from '../model/diagnostic.js';
import type { Table } from '../model/project.js';
import type { CollectedTables } from './collect-tables.js';
import type { Gathered } from './gather.js';
import { NameResolver, type Mentions } from './name-resolver.js';

/** All names that a query can mention, in the order in which messages tell them. */
interface Names {
  readonly layers: readonly string[];
  readonly tables: ReadonlyMap<string, unknown>;
  readonly functions: ReadonlyMap<string, unknown>;
  readonly parameters: ReadonlyMap<string, unknown>;
}

/** What is kept of this phase for the next reading. */
export interface NamesMemo {
  readonly names: Names;
  /** By the query, and the table that reads it. */
  readonly mentions: Mentions;
}

/** Who reads whom, and what has to be there before it. */
export interface ResolvedNames {
  readonly reads: ReadonlyMap<string, readonly string[]>;
  readonly needs: ReadonlyMap<string, readonly string[]>;
  readonly diagnostics: readonly Diagnostic[];
  readonly memo: NamesMemo;
}

/** The third phase: what the names of queries, checks and functions mean. Where all names are those of before, they mean the same. */
export function resolveNames(
  gathered: Gathered,
  { tables, byLayer }: CollectedTables,
  before: NamesMemo | undefined,
): ResolvedNames {
  const { layers, functions, parameters, checks, adhoc } = gathered;
  const diagnostics: Diagnostic[] = [];
  const resolver = new NameResolver({ layers, tables, byLayer, functions, parameters }, diagnostics);
  const names: Names = { layers: layers.map((l) => l.name), tables, functions, parameters };
  if (before && sameNames(before.names, names)) resolver.before = before.mentions;
  const reads = new Map([...tables.values()].map((table) => [table.fullName, readsOf(table, resolver, tables)]));
  for (const check of checks.values()) resolver.mentions(check.path, check.query);
  for (const query of adhoc.values()) resolver.mentions(query.path, query.query);
  for (const f of functions.values()) resolver.functionMentions(f.path, f.functions);
  const needs = new Map([...reads].map(([name, inputs]) => [name, needsOf(tables.get(name)!, inputs, tables)]));
  return { reads, needs, diagnostics, memo: { names, mentions: resolver.resolved } };
}

/** The tables that one reads, in the order of mention; unknown names and later layers are reported. */
function readsOf(table: Table, resolver: NameResolver, tables: ReadonlyMap<string, Table>): readonly string[] {
  if (table.kind !== 'definition' || !table.query) return [];
  const inputs = resolver.mentions(table.path, table.query, table);
  const throughFunctions = resolver.tablesOfFunctions(table.query.functions);
  return [...new Set([...inputs, ...throughFunctions, ...dimensionsOf(table, tables)])];
}

/** Inputs, and the tables that constraints reference: their checks read those. */
function needsOf(table: Table, inputs: readonly string[], tables: ReadonlyMap<string, Table>): readonly string[] {
  if (table.kind === 'source') return inputs;
  const referenced = (table.contract?.constraints ?? [])
    .flatMap((c) => c.references?.table ?? [])
    .filter((name) => name !== table.fullName && tables.has(name));
  return referenced.length ? [...new Set([...inputs, ...referenced])] : inputs;
}

/** Whether two readings have the same names: then what mentions them means the same. */
function sameNames(a: Names, b: Names): boolean {
  const sameKeys = (x: ReadonlyMap<string, unknown>, y: ReadonlyMap<string, unknown>) =>
    x.size === y.size && [...x.keys()].every((k) => y.has(k));
  return (
    a.layers.length === b.layers.length &&
    a.layers.every((l, i) => l === b.layers[i]) &&
    sameKeys(a.tables, b.tables) &&
    sameKeys(a.functions, b.functions) &&
    sameKeys(a.parameters, b.parameters)
  );
}
