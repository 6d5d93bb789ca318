import type { CommonTableExpr, Node, SelectStmt } from 'libpg-query';
import type { IndexedFile } from '../model/project.js';
import { fileQueries } from './file-queries.js';
import type { Range } from '../sql/positions.js';
import { strings } from '../sql/nodes.js';
import { endOfName } from '../sql/tokens.js';

/** Something in a query that nothing there takes: it is no mistake, and perhaps left over. */
export interface Leftover extends Range {
  readonly message: string;
}

/** CTEs that nothing reads, and columns of CTEs that nothing takes. What may be read is never told. */
export function leftoversOf(file: IndexedFile): readonly Leftover[] {
  if (!file.at) return [];
  const at = file.at;
  const told = (location: number | undefined, message: string): Leftover => {
    const start = at(location);
    return { start, end: endOfName(file.text, start, 1), message };
  };
  return fileQueries(file)
    .flatMap(({ select }) => statementsIn(select))
    .flatMap((statement) => {
      const ctes = ctesOf(statement);
      const parts = [wordsOf({ ...statement, withClause: undefined }), ...ctes.map((c) => wordsOf(c.ctequery))];
      return ctes.flatMap((cte, i) => {
        const name = cte.ctename ?? '';
        const reading = parts.filter((part, p) => p !== i + 1 && part.tables.has(name));
        if (reading.length === 0) return [told(cte.location, `Nothing in this query reads ${name}`)];
        const isRecursive = parts[i + 1]!.tables.has(name);
        if (isRecursive || reading.some(takesAll)) return [];
        return namedColumns(cte).flatMap((c) =>
          reading.some((part) => part.columns.has(c.name))
            ? []
            : [told(c.location, `Nothing in this query takes ${name}.${c.name}`)],
        );
      });
    });
}

const ctesOf = (select: SelectStmt): CommonTableExpr[] =>
  (select.withClause?.ctes ?? []).flatMap((n) => ('CommonTableExpr' in n ? [n.CommonTableExpr] : []));

/** The statements with CTEs, at any depth. */
function statementsIn(node: unknown, found: SelectStmt[] = []): SelectStmt[] {
  if (typeof node !== 'object' || node === null) return found;
  if ('withClause' in node) found.push(node as SelectStmt);
  for (const value of Object.values(node)) statementsIn(value, found);
  return found;
}

interface RangeVarLike {
  readonly schemaname?: string;
  readonly relname?: string;
  readonly alias?: { readonly aliasname?: string; readonly colnames?: Node[] };
}

interface Words {
  readonly tables: Set<string>;
  /** Last parts of what is named like a column, and names in USING. */
  readonly columns: Set<string>;
  /** Names without another before them: a table's is its whole row. */
  readonly alone: Set<string>;
  /** What tables are called. */
  readonly ranges: Set<string>;
  /** Whether something takes all columns, whatever they are called. */
  isWhole: boolean;
}

const takesAll = ({ isWhole, alone, ranges }: Words) => isWhole || [...ranges].some((r) => alone.has(r));

const noWords = (): Words => ({
  tables: new Set(),
  columns: new Set(),
  alone: new Set(),
  ranges: new Set(),
  isWhole: false,
});

/** All names that a part of a query mentions, whatever they mean. */
function wordsOf(node: unknown, words = noWords()): Words {
  if (typeof node !== 'object' || node === null) return words;
  if (Array.isArray(node)) {
    for (const item of node) wordsOf(item, words);
    return words;
  }
  for (const [key, value] of Object.entries(node as Record<string, unknown>)) {
    if (key === 'RangeVar') {
      const { schemaname, relname = '', alias } = value as RangeVarLike;
      if (schemaname === undefined) words.tables.add(relname);
      words.ranges.add(alias?.aliasname ?? relname);
      // Columns that get other names are all taken.
      if (alias?.colnames) words.isWhole = true;
    }
    if (key === 'ColumnRef') {
      const { fields = [] } = value as { fields?: Node[] };
      const names = strings(fields);
      if (names.length < fields.length) words.isWhole = true;
      for (const name of names) words.columns.add(name);
      if (names.length === 1) words.alone.add(names[0]!);
    }
    if (key === 'usingClause') for (const name of strings(value as Node[])) words.columns.add(name);
    if (key === 'isNatural' && value) words.isWhole = true;
    // Rows are compared and stacked whole.
    if (key === 'op' && typeof value === 'string' && value.startsWith('SETOP_') && value !== 'SETOP_NONE')
      words.isWhole = true;
    wordsOf(value, words);
  }
  return words;
}

/** The columns of a CTE that have a name in its text. A set of queries, or one that keeps rows apart, needs all. */
function namedColumns({ ctequery, aliascolnames }: CommonTableExpr): { name: string; location: number | undefined }[] {
  const select = ctequery && 'SelectStmt' in ctequery ? ctequery.SelectStmt : undefined;
  if (!select?.targetList || aliascolnames || select.distinctClause) return [];
  const sorts = wordsOf([select.sortClause, select.groupClause]).columns;
  return select.targetList.flatMap((n) => {
    if (!('ResTarget' in n) || !n.ResTarget.val) return [];
    const { name, val, location } = n.ResTarget;
    const own = name ?? ('ColumnRef' in val ? strings(val.ColumnRef.fields).at(-1) : undefined);
    // Calls may return several rows.
    return own === undefined || sorts.has(own) || 'FuncCall' in val ? [] : [{ name: own, location }];
  });
}
