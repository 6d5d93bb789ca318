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

/** Whom a table reads, and what has to be there before it. */
interface TableNames {
  readonly table: Table;
  readonly reads: readonly string[];
  readonly needs: readonly string[];
  readonly diagnostics: readonly Diagnostic[];
}

/** What is kept of this phase for the next reading. */
export interface NamesMemo {
  readonly names: Names;
  /** By the query, and the table that reads it. */
  readonly mentions: Mentions;
  /** In the order of the tables. */
  readonly tables: readonly TableNames[];
  readonly reads: ReadonlyMap<string, readonly string[]>;
  readonly needs: ReadonlyMap<string, readonly string[]>;
}

/** Who reads whom, and what has to be there before it; the same maps as before where they say the same. */
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
  const same = before && sameNames(before.names, names) ? before : undefined;
  if (same) resolver.before = same.mentions;
  const knownOf = same && knownIn(same.tables);
  const found: TableNames[] = [];
  let isAsBefore = same?.tables.length === tables.size;
  for (const [name, table] of tables) {
    const known = knownOf?.(name, found.length);
    if (known?.table === table && isAlone(table)) {
      for (const d of known.diagnostics) diagnostics.push(d);
      found.push(known);
      continue;
    }
    const first = diagnostics.length;
    const reads = kept(known?.reads, readsOf(table, resolver, tables));
    const needs = kept(known?.needs, needsOf(table, reads, tables));
    found.push({ table, reads, needs, diagnostics: diagnostics.slice(first) });
    isAsBefore &&= reads === known?.reads && needs === known.needs;
  }
  for (const check of checks.values()) resolver.mentions(check.path, check.query);
  for (const query of adhoc.values()) resolver.mentions(query.path, query.query);
  for (const f of functions.values()) resolver.functionMentions(f.path, f.functions);
  const ofEach = (of: 'reads' | 'needs') => new Map(found.map((t) => [t.table.fullName, t[of]]));
  const { reads, needs } = isAsBefore ? same! : { reads: ofEach('reads'), needs: ofEach('needs') };
  return { reads, needs, diagnostics, memo: { names, mentions: resolver.resolved, tables: found, reads, needs } };
}

/** Finds what was kept of a table: most stand where they stood, and copying or asking a large map takes longer than that. */
function knownIn(tables: readonly TableNames[]): (name: string, place: number) => TableNames | undefined {
  let byName: Map<string, TableNames> | undefined;
  return (name, place) => {
    const there = tables[place];
    if (there?.table.fullName === name) return there;
    byName ??= new Map(tables.map((t) => [t.table.fullName, t]));
    return byName.get(name);
  };
}

/** Whether what a table reads is told by itself and by names alone: what functions read is written elsewhere. */
const isAlone = (table: Table): boolean => table.kind !== 'definition' || !table.query?.functions.length;

/** The list of before, where it holds the same. */
const kept = (known: readonly string[] | undefined, fresh: readonly string[]): readonly string[] =>
  known?.length === fresh.length && known.every((name, i) => name === fresh[i]) ? known : fresh;

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
