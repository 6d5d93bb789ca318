import { constraintNames } from '../../language/tolerance.js';
import { constraintRange } from '../../index/contract.js';
import { resolveExpression } from '../../columns/columns.js';
import { valueProblem } from '../../language/value-problem.js';
import { didYouMean } from '../../sql/nearest.js';
import { rangeOfLine, startsOfLines, type Range } from '../../sql/positions.js';
import { narrows } from '../../sql/types.js';
import { startOf } from './columns.js';
import { readCsv } from '../../index/csv.js';
import type { Diagnostic } from '../../model/diagnostic.js';
import { helperColumns, isFilled, optionOf } from '../../language/contract.js';
import type { Column, ConstraintDeclaration, Contract, Definition, IndexedFile, LeftToDatabase, ReferenceTable, Table } from '../../model/project.js';

/** What a contract is held against. */
export interface ContractSurroundings {
  readonly file: IndexedFile;
  readonly tables: ReadonlyMap<string, Table>;
  readonly columns: ReadonlyMap<string, readonly Column[] | undefined>;
}

/** The contract held against the query: columns missing on either side, columns of constraints, types that narrow. */
export function contractDiagnostics(table: Definition, columns: readonly Column[] | undefined, around: ContractSurroundings): Diagnostic[] {
  const { contract } = table;
  if (!contract) return [];
  const declared = contract.columns.map((c) => ({ name: c.name, origins: [] }));
  const found = columns && table.query ? columnsAgainstQuery(table, columns, startOf(around.file, table.query)) : [];
  for (const constraint of contract.constraints) found.push(...constraintDiagnostics(table, constraint, declared, around));
  found.push(...namedConstraints(table, contract), ...leftDiagnostics(table, contract));
  return found;
}

const LEFT_ADVICE: Readonly<Record<LeftToDatabase['kind'], readonly [string, string]>> = {
  default: ['a load writes every column, so that a default is never asked for', 'return the value from the query, as in coalesce(column, value)'],
  identity: ['a load numbers rows itself, so that each key keeps its number', "write options (role 'surrogate key') on the column, and a business_key"],
  generated: ['a load writes every column, none is generated', 'compute it in the query'],
  exclusion: ['an exclusion constraint cannot be checked on what is made beside', 'say it as a query in checks/'],
  collation: ['a table made from a query has the collation of the database', 'write collate in the queries that compare or sort'],
};

/** What a contract leaves to the database, which no load does. */
function leftDiagnostics({ path }: Pick<Table, 'path'>, { leftToDatabase }: Contract): Diagnostic[] {
  return leftToDatabase.map(({ kind, column, range }) => {
    const [message, hint] = LEFT_ADVICE[kind];
    return { code: 'contract-column', severity: 'error', path, range, message: column === '' ? message : `${column}: ${message}`, hint };
  });
}

function columnProblem(path: string, range: Range, message: string, hint?: string, severity: Diagnostic['severity'] = 'error'): Diagnostic {
  return { code: 'contract-column', severity, path, range, message, ...(hint ? { hint } : {}) };
}

function columnsAgainstQuery(table: Definition, columns: readonly Column[], query: Range): Diagnostic[] {
  const found: Diagnostic[] = [];
  const declared = table.contract!.columns;
  const only = (names: readonly { readonly name: string }[], others: readonly { readonly name: string }[]) =>
    names.map((n) => n.name).filter((name) => !others.some((o) => o.name === name));
  const helpers = helperColumns(table);
  for (const c of declared) {
    const given = columns.find((q) => q.name === c.name);
    if (isFilled(c)) {
      if (given) found.push(columnProblem(table.path, c.range, `${c.name} is filled by the load, and the query returns it too`, 'take it out of the query'));
      continue;
    }
    if (!given) {
      const hint = didYouMean(c.name, only(columns, declared)) ?? 'add it to the query, or take it out of the contract';
      found.push(columnProblem(table.path, c.range, `the query returns no column ${c.name}`, hint));
    } else if (given.type !== undefined && given.type !== c.type && narrows(given.type, c.type)) {
      const message = `${c.name} is ${given.type} in the query and ${c.type} in the contract: values could be cut or refused`;
      found.push(columnProblem(table.path, c.range, message, 'widen the contract, or round in the query', 'warning'));
    }
  }
  const drift = optionOf(table, 'drift');
  for (const name of drift === 'add' || drift === 'ignore' ? [] : only(columns, declared)) {
    if (helpers.has(name)) continue;
    const hint = didYouMean(name, only(declared, columns)) ?? 'declare it, or take it out of the query';
    found.push(columnProblem(table.path, query, `the contract does not declare column ${name}, which the query returns`, hint));
  }
  return found;
}

/** Columns of a query that a contract with drift = add takes over. */
export function driftedColumns(table: Definition, columns: readonly Column[] = []): Column[] {
  if (optionOf(table, 'drift') !== 'add') return [];
  const helpers = helperColumns(table);
  return columns.filter((c) => !helpers.has(c.name) && !table.contract!.columns.some((d) => d.name === c.name));
}

/** Options that name constraints which the contract does not have. */
function namedConstraints(table: Definition, contract: Contract): Diagnostic[] {
  const names = contract.constraints.map((c) => c.name);
  return ['advisory', 'tolerate'].flatMap((option) => {
    const set = contract.options.get(option);
    return (set ? constraintNames(set.value) : [])
      .filter((name) => !names.includes(name))
      .map((name) => {
        const hint = didYouMean(name, names) ?? `its constraints are ${names.join(', ')}`;
        return columnProblem(table.path, set!.range, `option ${option} names ${name}, which is not a constraint of ${table.fullName}`, hint);
      });
  });
}

function constraintDiagnostics(
  table: Definition,
  constraint: ConstraintDeclaration,
  declared: readonly Column[],
  around: ContractSurroundings,
): readonly Diagnostic[] {
  const found: Diagnostic[] = [];
  const report = (code: Diagnostic['code'], message: string, hint?: string) => {
    const range = constraintRange(around.file.text, constraint.start);
    found.push({ code, severity: 'error', path: table.path, range, message: `constraint ${constraint.name}: ${message}`, ...(hint ? { hint } : {}) });
  };
  for (const name of constraint.columns) {
    if (declared.some((c) => c.name === name)) continue;
    const hint = didYouMean(
      name,
      declared.map((c) => c.name),
    );
    report('unknown-column', `the contract has no column ${name}`, hint);
  }
  if (constraint.condition && found.length === 0) {
    for (const problem of resolveExpression(constraint.condition, [{ name: table.name, columns: declared }]))
      report('unknown-column', `there is no column ${'parts' in problem ? problem.parts.join('.') : ''}`);
  }
  const target = constraint.references;
  if (!target) return found;
  if (!around.tables.has(target.table)) {
    report('unknown-table', `it references ${target.table}, which is not a table of the project`, didYouMean(target.table, around.tables.keys()));
    return found;
  }
  const names = around.columns.get(target.table)?.map((c) => c.name);
  for (const column of target.columns) {
    if (names && !names.includes(column)) report('unknown-column', `${target.table} has no column ${column}`, didYouMean(column, names));
  }
  return found;
}

/** A reference table's columns: the header's, with the types of its contract, the two held against each other. */
export function referenceColumns(table: ReferenceTable): { columns: readonly Column[]; diagnostics: Diagnostic[] } {
  const declared = new Map(table.contract?.columns.map((c) => [c.name, c]));
  const diagnostics: Diagnostic[] = table.contract ? leftDiagnostics(table, table.contract) : [];
  for (const c of declared.values()) {
    if (table.header.includes(c.name)) continue;
    const undeclared = table.header.filter((h) => !declared.has(h));
    const hint = didYouMean(c.name, undeclared) ?? 'add it to the header row';
    diagnostics.push(columnProblem(table.path, c.range, `${table.csvPath} has no column ${c.name}`, hint));
  }
  for (const name of table.contract ? table.header : []) {
    if (declared.has(name)) continue;
    const missing = [...declared.keys()].filter((t) => !table.header.includes(t));
    const hint = didYouMean(name, missing) ?? 'declare it';
    diagnostics.push(columnProblem(table.path, table.nameRange, `the contract does not declare column ${name} of ${table.csvPath}`, hint));
  }
  const names = table.contract ? [...declared.keys()] : table.header;
  return { columns: names.map((name) => ({ name, type: declared.get(name)?.type ?? 'text', origins: [] })), diagnostics };
}

/** Columns of a reference table whose values are dates or instants. */
export const datedColumns = (table: ReferenceTable) =>
  table.contract?.columns.filter((c) => /^(date|timestamp)/.test(c.type) && table.header.includes(c.name)) ?? [];

/** Dates and instants of a reference table are written as ISO 8601 has it: how others are read depends on settings of the database. */
export function unreadDates(table: ReferenceTable, csv: IndexedFile): readonly Diagnostic[] {
  const known = unread.get(table);
  if (known) return known;
  const found: Diagnostic[] = [];
  const dated = datedColumns(table);
  if (dated.length > 0 && csv.text.length <= LONGEST_DATED) {
    const { rows, lines } = readCsv(csv.text);
    const starts = startsOfLines(csv.text);
    for (const column of dated) {
      const at = table.header.indexOf(column.name);
      for (const [row, fields] of rows.entries()) {
        const value = fields[at];
        const problem = value === null || value === undefined ? undefined : valueProblem(column.type, value);
        if (problem === undefined) continue;
        const line = lines[row]!;
        found.push({
          code: 'bad-reference-file',
          severity: 'error',
          path: csv.path,
          range: rangeOfLine(starts, line, csv.text.length),
          message: `${column.name}: “${value}” ${problem}`,
          hint: `line ${line} of ${csv.path}`,
        });
        if (found.length >= MOST_UNREAD) break;
      }
    }
  }
  unread.set(table, found);
  return found;
}

/** Values of a column that are told; more say no more. */
const MOST_UNREAD = 100;
/** Characters of a file whose dates are read here, on the thread that answers requests; those of longer ones are read when they are loaded. */
export const LONGEST_DATED = 2_000_000;
const unread = new WeakMap<ReferenceTable, readonly Diagnostic[]>();
const joined = new WeakMap<Definition, WeakMap<ReferenceTable, ReferenceTable>>();

/** A reference table with the contract of the file beside its CSV; the same object for the same two. */
export function withContract(csv: ReferenceTable, contract: Definition): ReferenceTable {
  const ofContract = joined.get(contract) ?? new WeakMap<ReferenceTable, ReferenceTable>();
  joined.set(contract, ofContract);
  const known = ofContract.get(csv);
  const table: ReferenceTable = known ?? {
    ...csv,
    path: contract.path,
    nameRange: contract.nameRange,
    ...(contract.contract ? { contract: contract.contract } : {}),
    ...(contract.comment === undefined ? {} : { comment: contract.comment }),
  };
  ofContract.set(csv, table);
  return table;
}
