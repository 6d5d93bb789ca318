import { columnOption } from '../language/contract.js';
import type { Project, ProjectFunction, Table } from '../model/project.js';
import { columnId, partsOfId } from './edges.js';
import { lineageOf } from './graph.js';

/** Why a column's values are for few eyes: what was declared, and the column at which it was. */
export interface Sensitivity {
  readonly kind: string;
  readonly from: string;
}

export type SensitiveColumns = ReadonlyMap<string, Sensitivity>;

/** What a declaration says that frees a column. */
const FREED = 'no';
const NONE: SensitiveColumns = new Map();

const ofProjects = new WeakMap<Project, WeakMap<Project, ReadonlyMap<string, SensitiveColumns>>>();

/**
 * The sensitive columns of all tables: those that are declared so, and all that take their values from them, until a
 * column is declared `sensitive 'no'`. Tables without any are left out.
 * @param released of a workspace: production's project. What is sensitive there stays so, and nothing is freed that is
 * not free there, until it is reviewed and released
 */
export function sensitiveColumns(project: Project, released = project): ReadonlyMap<string, SensitiveColumns> {
  const known = ofProjects.get(project)?.get(released);
  if (known) return known;
  const found = new Map<string, SensitiveColumns>();
  const declared = new Map<string, ReadonlyMap<string, string>>();
  for (const table of project.tables.values()) {
    const own = declaredOf(table, released.tables.get(table.fullName));
    if (own.size) declared.set(table.fullName, own);
  }
  if (declared.size) for (const name of tablesInOrder(project)) readTable(project, name, { declared, found });
  const ofProject = ofProjects.get(project) ?? new WeakMap<Project, ReadonlyMap<string, SensitiveColumns>>();
  ofProjects.set(project, ofProject.set(released, found));
  return found;
}

/** Of one table. */
export const sensitiveOf = (project: Project, table: string, released = project): SensitiveColumns =>
  sensitiveColumns(project, released).get(table) ?? NONE;

/** Sources and references first, then definitions, each after what it reads. */
function tablesInOrder(project: Project): readonly string[] {
  const ordered = new Set(project.order);
  return [...[...project.tables.keys()].filter((t) => !ordered.has(t)), ...project.order];
}

const NOTHING_DECLARED: ReadonlyMap<string, string> = new Map();

function readTable(
  project: Project,
  name: string,
  of: {
    readonly declared: ReadonlyMap<string, ReadonlyMap<string, string>>;
    readonly found: Map<string, SensitiveColumns>;
  },
): void {
  const declared = of.declared.get(name) ?? NOTHING_DECLARED;
  // What a function hands on of the tables that it reads is not followed: all that is made with it counts.
  const byFunction = throughFunctions(project, name, of.found);
  const own = new Map<string, Sensitivity>();
  for (const { name: column } of project.columns.get(name) ?? []) {
    const id = columnId(name, column);
    const said = declared.get(column);
    const given = said === undefined ? (taken(project, id, of.found) ?? byFunction) : { kind: said, from: id };
    if (given && said !== FREED) own.set(column, given);
  }
  // What is declared counts, too, where the columns cannot be known.
  for (const [column, kind] of declared)
    if (kind !== FREED && !own.has(column)) own.set(column, { kind, from: columnId(name, column) });
  if (own.size) of.found.set(name, own);
}

/** What the functions of a table's query may hand on, of what they read through any number of others. */
function throughFunctions(
  project: Project,
  name: string,
  found: ReadonlyMap<string, SensitiveColumns>,
): Sensitivity | undefined {
  const table = project.tables.get(name);
  const open = table?.kind === 'definition' ? (table.query?.functions ?? []).map((f) => f.name) : [];
  const seen = new Set<string>();
  for (let next = open.pop(); next !== undefined; next = open.pop()) {
    const f = seen.has(next) ? undefined : project.functions.get(next);
    seen.add(next);
    if (!f) continue;
    for (const read of readsOf(project, f, found.keys())) {
      const [first] = found.get(read)?.values() ?? [];
      if (first) return first;
    }
    open.push(...f.functions.map((g) => g.name));
  }
  return undefined;
}

/** The tables that a function reads; of a body that is a text, all that it names. @param among tables that are looked for */
function readsOf(project: Project, f: ProjectFunction, among: Iterable<string>): string[] {
  const { start, end } = f.range;
  const words = (project.files.get(f.path)?.text.slice(start, end) ?? '')
    .replaceAll(/--[^\n]*|\/\*[\s\S]*?\*\//g, '')
    .replaceAll('"', '')
    .replaceAll(/\s*\.\s*/g, '.');
  return [
    ...f.tables.map(({ layer, name }) => `${layer ?? ''}.${name}`),
    ...[...among].filter((table) => words.includes(table)),
  ];
}

/** What comes with the values of a column. */
function taken(project: Project, id: string, found: ReadonlyMap<string, SensitiveColumns>): Sensitivity | undefined {
  for (const origin of lineageOf(project).edges(id)?.value ?? []) {
    const { table, column } = partsOfId(project, origin);
    const given = found.get(table)?.get(column);
    if (given) return given;
  }
  return undefined;
}

/** What is declared of columns. */
function declaredOf(table: Table, released: Table | undefined): ReadonlyMap<string, string> {
  const own = saidOf(table);
  if (released === table) return own;
  const there = released ? saidOf(released) : NOTHING_DECLARED;
  const all = new Map(own);
  for (const [column, said] of own) if (said === FREED && there.get(column) !== FREED) all.delete(column);
  for (const [column, said] of there) if (said !== FREED) all.set(column, said);
  return all;
}

const saidOf = (table: Table): ReadonlyMap<string, string> =>
  new Map(
    (table.contract?.columns ?? []).flatMap((c) => {
      const said = columnOption(c, 'sensitive');
      return said === undefined ? [] : [[c.name, said.trim()] as const];
    }),
  );

/**
 * The columns of a table that everybody may see: all, or these. Where the columns cannot be known and something
 * sensitive is read, none.
 */
export function visibleColumns(project: Project, table: string, released = project): 'all' | readonly string[] {
  const hidden = sensitiveOf(project, table, released);
  const columns = project.columns.get(table);
  if (columns) return hidden.size ? columns.flatMap(({ name }) => (hidden.has(name) ? [] : [name])) : 'all';
  return hidden.size || readsSensitive(project, table, released) ? [] : 'all';
}

function readsSensitive(project: Project, table: string, released: Project): boolean {
  const open = [table];
  const seen = new Set<string>();
  for (let next = open.pop(); next !== undefined; next = open.pop()) {
    if (seen.has(next)) continue;
    seen.add(next);
    if (sensitiveOf(project, next, released).size) return true;
    open.push(...(project.reads.get(next) ?? []));
  }
  return false;
}

/** Columns that a change frees: by declaring so, or by no longer declaring what was. */
export function freedColumns(before: Project, after: Project): readonly string[] {
  return [...sensitiveColumns(before)].flatMap(([table, columns]) => {
    const now = sensitiveOf(after, table);
    const left = new Set(after.columns.get(table)?.map((c) => c.name));
    return [...columns.keys()].flatMap((c) => (now.has(c) || !left.has(c) ? [] : [columnId(table, c)]));
  });
}
