import { projectAround } from '../columns/around.js';
import { resolveColumns } from '../columns/columns.js';
import type { Around } from '../columns/reader.js';
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
import {
  declaredColumn,
  type Column,
  type IndexedFile,
  type ProjectFunction,
  type Query,
  type Table,
} from '../model/project.js';
import { loadDiagnostics } from './rules/load/rules.js';
import { sourceDiagnostics } from './rules/source.js';

/** Problems of one query for which the nearest right name is looked for: nobody reads on that far. */
const MOST_HINTS = 100;
/** Columns that a table of PostgreSQL can have. */
const MOST_COLUMNS = 1600;

const NO_ROWS: readonly string[] = [];

/** What the columns of one table are read from. */
export interface ColumnSurroundings {
  readonly files: ReadonlyMap<string, IndexedFile>;
  readonly tables: ReadonlyMap<string, Table>;
  readonly functions: ReadonlyMap<string, ProjectFunction>;
  /** Columns of the tables before it, by full name. */
  readonly columns: Pick<ReadonlyMap<string, readonly Column[] | undefined>, 'get'>;
}

export interface ReadColumns {
  readonly columns: readonly Column[] | undefined;
  /** What decides which rows a query has: columns, and `layer.table.*` for the rows of a table. */
  readonly rows: readonly string[];
  readonly diagnostics: Diagnostic[];
}

/** Reads the columns of tables and queries, and what is wrong with them, from those of the tables before. */
export class ColumnReader {
  private readonly inputs: Around;

  constructor(private readonly around: ColumnSurroundings) {
    this.inputs = projectAround((table) => around.columns.get(table), around.functions);
  }

  columnsOf(table: Table): ReadColumns {
    switch (table.kind) {
      case 'source':
        return {
          columns: table.contract.columns.map((c) => declaredColumn(c.name, c.type)),
          rows: NO_ROWS,
          diagnostics: sourceDiagnostics(table),
        };
      case 'reference':
        return { ...referenceColumns(table), rows: NO_ROWS };
      case 'definition': {
        if (!table.query)
          return {
            columns: table.contract?.columns.map((c) => declaredColumn(c.name, c.type)),
            rows: NO_ROWS,
            diagnostics: [],
          };
        const { columns, rows, diagnostics } = this.queryColumns(table.path, table.query);
        diagnostics.push(
          ...this.unnamed(table.path, table.query, columns),
          ...loadDiagnostics(table, {
            tables: this.around.tables,
            query: columns,
            partial: partialInputs(table, this.around.tables),
          }),
          ...contractDiagnostics(table, columns, this.surroundings(table.path)),
        );
        const ofQuery = new Map(columns?.map((c) => [c.name, c]));
        return {
          columns: table.contract
            ? [
                ...table.contract.columns.map((c) => ({
                  ...(ofQuery.get(c.name) ?? declaredColumn(c.name, c.type)),
                  type: c.type,
                })),
                ...driftedColumns(table, columns),
              ]
            : columns,
          rows,
          diagnostics,
        };
      }
    }
  }

  queryColumns(path: string, query: Query): ReadColumns {
    const { columns, rows, problems } = resolveColumns(query.select, this.inputs);
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
    return { columns, rows, diagnostics };
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
