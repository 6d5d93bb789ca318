import { resolveColumns } from '../columns/columns.js';
import { outputName } from '../columns/output-name.js';
import { nextToken } from '../sql/tokens.js';
import { columnDiagnostic, startOf } from './rules/columns.js';
import { contractDiagnostics } from './rules/contract/contract.js';
import { type ContractSurroundings } from './rules/contract/surroundings.js';
import { referenceColumns } from './rules/reference/header.js';
import { driftedColumns } from './rules/contract/columns-against-query.js';
import { errorAt, type Diagnostic } from '../model/diagnostic.js';
import { sameColumnTwice, tooManyColumns, unnamedColumn } from './messages.js';
import { partialInputs } from '../graph/inputs.js';
import type { Column, IndexedFile, ProjectFunction, Query, Table } from '../model/project.js';
import { loadDiagnostics } from './rules/load/rules.js';
import { sourceDiagnostics } from './rules/source.js';

/** Problems of one query for which the nearest right name is looked for: nobody reads on that far. */
const MOST_HINTS = 100;
/** Columns that a table of PostgreSQL can have. */
const MOST_COLUMNS = 1600;

const NO_ORIGINS: readonly string[] = [];

/** What the columns of one table are read from. */
export interface ColumnSurroundings {
  readonly files: ReadonlyMap<string, IndexedFile>;
  readonly tables: ReadonlyMap<string, Table>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
  /** Columns of the tables before it, by full name. */
  readonly columns: ReadonlyMap<string, readonly Column[] | undefined>;
}

export interface ReadColumns {
  readonly columns: readonly Column[] | undefined;
  readonly diagnostics: Diagnostic[];
}

/** Reads the columns of tables and queries, and what is wrong with them, from those of the tables before. */
export class ColumnReader {
  private readonly inputs = new Map<string, readonly Column[] | undefined>();

  constructor(private readonly around: ColumnSurroundings) {}

  columnsOf(table: Table): ReadColumns {
    switch (table.kind) {
      case 'source':
        return {
          columns: table.contract.columns.map((c) => ({ name: c.name, type: c.type, origins: NO_ORIGINS })),
          diagnostics: sourceDiagnostics(table),
        };
      case 'reference':
        return referenceColumns(table);
      case 'definition': {
        if (!table.query)
          return {
            columns: table.contract?.columns.map((c) => ({ name: c.name, type: c.type, origins: NO_ORIGINS })),
            diagnostics: [],
          };
        const { columns, diagnostics } = this.queryColumns(table.path, table.query);
        diagnostics.push(
          ...this.unnamed(table.path, table.query, columns),
          ...loadDiagnostics(table, {
            tables: this.around.tables,
            query: columns,
            partial: partialInputs(table, this.around.tables),
          }),
          ...contractDiagnostics(table, columns, this.surroundings(table.path)),
        );
        const origins = (name: string) => columns?.find((c) => c.name === name)?.origins ?? NO_ORIGINS;
        return {
          columns: table.contract
            ? [
                ...table.contract.columns.map((c) => ({ name: c.name, type: c.type, origins: origins(c.name) })),
                ...driftedColumns(table, columns),
              ]
            : columns,
          diagnostics,
        };
      }
    }
  }

  queryColumns(path: string, query: Query): ReadColumns {
    const { columns, problems } = resolveColumns(
      query.select,
      (layer, name) => this.asInput(`${layer}.${name}`),
      (name) => this.around.functions.get(name)?.returns,
    );
    const diagnostics = problems.map((p, i) =>
      columnDiagnostic(this.around.files.get(path)!, p, { hints: i < MOST_HINTS }),
    );
    const start = { path, range: startOf(this.around.files.get(path)!, query) };
    if (columns && columns.length > MOST_COLUMNS)
      diagnostics.push(errorAt(start, tooManyColumns(columns.length, MOST_COLUMNS)));
    const seen = new Set<string>();
    for (const column of columns && columns.length <= MOST_COLUMNS ? columns : []) {
      if (column.name !== '?column?' && seen.has(column.name))
        diagnostics.push(errorAt(start, sameColumnTwice(column.name)));
      seen.add(column.name);
    }
    return { columns, diagnostics };
  }

  /** Columns without a name, of what makes a table. */
  private unnamed(path: string, query: Query, columns: readonly Column[] | undefined): Diagnostic[] {
    if (!columns?.some((c) => c.name === '?column?')) return [];
    const file = this.around.files.get(path)!;
    const places = unnamedItems(query.select).flatMap((location) => {
      const token = location === undefined ? undefined : nextToken(file.text, file.at!(location));
      return token ? [{ start: token.start, end: token.end }] : [];
    });
    return (places.length ? places : [startOf(file, query)]).map((range) => errorAt({ path, range }, unnamedColumn));
  }

  private surroundings(path: string): ContractSurroundings {
    return { file: this.around.files.get(path)!, tables: this.around.tables, columns: this.around.columns };
  }

  /** A table's columns as its readers see them: each comes from the table itself. */
  private asInput(table: string): readonly Column[] | undefined {
    if (!this.inputs.has(table))
      this.inputs.set(
        table,
        this.around.columns.get(table)?.map((c) => ({ name: c.name, type: c.type, origins: [`${table}.${c.name}`] })),
      );
    return this.inputs.get(table);
  }
}

/** Where the items of a query's first arm stand that have no name. */
function unnamedItems(select: Query['select']): (number | undefined)[] {
  let first = select;
  while (first.larg) first = first.larg;
  return (first.targetList ?? []).flatMap((node) => {
    const item = 'ResTarget' in node ? node.ResTarget : undefined;
    return item?.val && item.name === undefined && outputName(item.val) === '?column?' ? [item.location] : [];
  });
}
