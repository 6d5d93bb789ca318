import { exampleInputs } from '../graph/example-inputs.js';
import { isFilled, isLookUp, lookedUpTable, namesIn } from '../language/contract.js';
import { columnWith } from '../language/roles.js';
import { targetOf } from '../compile/target.js';
import type { ColumnRef, Node, RangeVar } from 'libpg-query';
import type { Definition, Project } from '../model/project.js';
import { strings } from '../sql/nodes.js';
import { ident, literal } from '../sql/quote.js';

/** Values of some columns, by name; texts as the database writes them. */
export type NamedRow = ReadonlyMap<string, string | null>;

/** Which rows of a table an example needs. */
export interface Wanted {
  readonly table: string;
  readonly kind: 'input' | 'member';
  /** The columns that the query uses; for members, the business key and the validity. */
  readonly columns: readonly string[];
  /** A condition over the table; undefined where nothing tells which rows were used. */
  readonly where: string | undefined;
}

/**
 * Finds input rows that made chosen rows of a definition's query: columns that the query hands on as they are tell their
 * table's rows, and equalities between columns of two tables lead from one to the other. Rows of the tables that were
 * found are given back, for those that join them.
 */
export class InputTrace {
  private readonly equal: readonly (readonly string[])[];
  /** Values that a column is known to have in the rows wanted, by `layer.table.column`. */
  private readonly values = new Map<string, Set<string | null>>();
  private readonly open: Set<string>;

  constructor(
    private readonly project: Project,
    private readonly table: Definition,
    private readonly chosen: readonly NamedRow[],
  ) {
    const { inputs } = exampleInputs(table, project);
    this.open = new Set(inputs);
    this.equal = equalities(project, table, inputs);
    for (const column of project.columns.get(table.fullName) ?? [])
      if (column.kind === 'copied' && column.origins.length === 1)
        for (const row of chosen) if (row.has(column.name)) this.know(column.origins[0]!, row.get(column.name)!);
  }

  private know(id: string, value: string | null): void {
    for (const other of this.equal.find((ids) => ids.includes(id)) ?? [id]) {
      // A null joins with nothing.
      if (other !== id && value === null) continue;
      this.values.set(other, (this.values.get(other) ?? new Set()).add(value));
    }
  }

  /** The next input to look into, the best known one first; undefined once all were asked for. */
  next(): Wanted | undefined {
    const known = (table: string) => this.columnsOf(table).filter((c) => this.values.has(`${table}.${c}`)).length;
    const [table] = [...this.open].sort((a, b) => known(b) - known(a));
    if (table === undefined) return undefined;
    this.open.delete(table);
    return { table, kind: 'input', columns: this.used(table), where: this.condition(table) };
  }

  /** What was found in an input leads to the rows of those that join it. */
  found(table: string, rows: readonly NamedRow[]): void {
    for (const row of rows) for (const [column, value] of row) this.know(`${table}.${column}`, value);
  }

  private columnsOf(table: string): readonly string[] {
    return (this.project.columns.get(table) ?? []).map((c) => c.name);
  }

  private condition(table: string): string | undefined {
    const parts = this.columnsOf(table).flatMap((column) => {
      const values = this.values.get(`${table}.${column}`);
      return values ? [isOneOf(this.project, table, column, values)] : [];
    });
    return parts.length ? parts.join(' and ') : undefined;
  }

  /** Columns that the query's columns and rows depend on. */
  private used(table: string): readonly string[] {
    const ids = new Set([
      ...(this.project.columns.get(this.table.fullName) ?? []).flatMap((c) => [...c.origins, ...c.influence]),
      ...(this.project.rows.get(this.table.fullName) ?? []),
      ...this.equal.flat(),
    ]);
    const all = this.columnsOf(table);
    const used = all.filter((c) => ids.has(`${table}.${c}`));
    return used.length ? used : all;
  }

  /** Members that the chosen rows look up. */
  members(): readonly Wanted[] {
    const { members } = exampleInputs(this.table, this.project);
    return members.flatMap((name) => {
      const dimension = this.project.tables.get(name);
      if (dimension?.kind !== 'definition') return [];
      const target = targetOf(this.project, dimension);
      const validity = ['valid from', 'valid to'] as const;
      const columns = [...target.key, ...validity.flatMap((role) => columnWith(target, role) ?? [])];
      const conditions = (this.table.contract?.columns ?? [])
        .filter((c) => isLookUp(c) && lookedUpTable(this.table, c.name) === name)
        .flatMap((c) => {
          const by = namesIn(c.options['looked_up_by']);
          const parts = target.key.flatMap((key, i) => {
            const values = new Set(this.chosen.flatMap((row) => row.get(by[i]!) ?? []));
            return values.size ? [isOneOf(this.project, name, key, values)] : [];
          });
          return parts.length === target.key.length ? [`(${parts.join(' and ')})`] : [];
        });
      const where = conditions.length ? conditions.join(' or ') : undefined;
      return [{ table: name, kind: 'member' as const, columns, where }];
    });
  }

  /** Columns of `result.csv` for an example of this definition: what the query gives, and keys. */
  resultColumns(): readonly string[] {
    const columns = this.table.contract?.columns;
    if (!columns) return this.columnsOf(this.table.fullName);
    return columns.filter((c) => isLookUp(c) || !isFilled(c)).map((c) => c.name);
  }
}

function isOneOf(project: Project, table: string, column: string, values: ReadonlySet<string | null>): string {
  const type =
    project.tables.get(table)?.contract?.columns.find((c) => c.name === column)?.type ??
    project.columns.get(table)?.find((c) => c.name === column)?.type ??
    'text';
  const texts = [...values].filter((v) => v !== null);
  const listed = texts.length
    ? [`${ident(column)} in (${texts.map((v) => `cast(${literal(v)} as ${type})`).join(', ')})`]
    : [];
  const parts = [...listed, ...(values.has(null) ? [`${ident(column)} is null`] : [])];
  return parts.length > 1 ? `(${parts.join(' or ')})` : parts[0]!;
}

// Equalities of a query ------------------------------------------------------------------------------

/** Columns of inputs that the query's conditions hold to be equal, in classes; `layer.table.column`. */
function equalities(project: Project, table: Definition, inputs: readonly string[]): readonly (readonly string[])[] {
  const aliases = new Map<string, string>();
  const pairs: (readonly [string, string])[] = [];
  const has = (input: string, column: string) => project.columns.get(input)?.some((c) => c.name === column);
  const ids = (ref: ColumnRef): string[] => {
    const names = strings(ref.fields);
    const column = names.at(-1) ?? '';
    const input = names.length > 1 ? aliases.get(names.at(-2)!) : undefined;
    if (names.length > 1) return input !== undefined && has(input, column) ? [`${input}.${column}`] : [];
    const owners = inputs.filter((i) => has(i, column));
    return owners.length === 1 ? [`${owners[0]}.${column}`] : [];
  };
  const visit = (node: unknown, see: (kind: string, value: object) => void): void => {
    if (typeof node !== 'object' || node === null) return;
    for (const [kind, value] of Object.entries(node)) {
      if (typeof value !== 'object' || value === null) continue;
      see(kind, value as object);
      visit(value, see);
    }
  };
  visit(table.query?.select, (kind, value) => {
    if (kind !== 'RangeVar') return;
    const { schemaname, relname, alias } = value as RangeVar;
    const full = `${schemaname ?? ''}.${relname ?? ''}`;
    if (inputs.includes(full)) aliases.set(alias?.aliasname ?? relname!, full);
  });
  visit(table.query?.select, (kind, value) => {
    if (kind === 'A_Expr') {
      const { name, lexpr, rexpr } = value as { name?: Node[]; lexpr?: Node; rexpr?: Node };
      if (strings(name).join() !== '=' || !lexpr || !rexpr || !('ColumnRef' in lexpr) || !('ColumnRef' in rexpr))
        return;
      for (const a of ids(lexpr.ColumnRef)) for (const b of ids(rexpr.ColumnRef)) pairs.push([a, b]);
    }
    if (kind === 'usingClause')
      for (const column of strings(value as Node[])) {
        const owners = inputs.filter((i) => has(i, column)).map((i) => `${i}.${column}`);
        for (const other of owners.slice(1)) pairs.push([owners[0]!, other]);
      }
  });
  return classesOf(pairs);
}

function classesOf(pairs: readonly (readonly [string, string])[]): string[][] {
  let classes: string[][] = [];
  for (const [a, b] of pairs) {
    const touched = classes.filter((c) => c.includes(a) || c.includes(b));
    classes = [...classes.filter((c) => !touched.includes(c)), [...new Set([a, b, ...touched.flat()])]];
  }
  return classes;
}
