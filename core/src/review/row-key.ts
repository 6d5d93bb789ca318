import { isLookUp, lookedUpTable } from '../language/contract.js';
import { columnWith, hasRole, type Role } from '../language/roles.js';
import { keyColumns, keepsVersions, specOf } from '../language/spec.js';
import type { Definition, Project, Table } from '../model/project.js';

/** Numbers, times and hashes that each environment's load gives: they say nothing of the data. */
const GIVEN: readonly Role[] = ['surrogate key', 'durable key', 'version number', 'row hash', 'loaded at', 'run id'];

/** By what two versions of a table's rows are matched, and which columns say nothing of their data. */
export interface RowKey {
  /** Empty where nothing tells rows apart: they are then compared whole. */
  readonly columns: readonly string[];
  /** What each environment's load gives. */
  readonly apart: readonly string[];
  /** Columns that hold the number of another table's row, compared by what that row is. */
  readonly members: readonly Member[];
}

/** A column that refers to a row of another table by a number that its load gave. */
export interface Member {
  readonly column: string;
  readonly table: string;
  /** The number's column there, and those that say what the row is. */
  readonly number: string;
  readonly meaning: readonly string[];
}

/**
 * By what the rows of a table are matched: its business key, with the begin of a version or the date of a copy, else its
 * primary key.
 */
export function rowKey(project: Project, table: Table): RowKey {
  const columns = table.contract?.columns ?? [];
  const apart = columns.filter((c) => hasRole(c, ...GIVEN)).map((c) => c.name);
  const primary = table.contract?.constraints.find((c) => c.kind === 'primary key')?.columns ?? [];
  const own = table.kind === 'definition' ? identityOf(table) : [];
  const key = own.length > 0 ? own : primary.some((c) => apart.includes(c)) ? [] : primary;
  const members = table.kind === 'definition' ? membersOf(project, table) : [];
  return { columns: key, apart, members: members.filter((m) => !key.includes(m.column)) };
}

/** What a row of a definition is, whatever numbers it was given. */
function identityOf(table: Definition): readonly string[] {
  const spec = specOf(table);
  if (spec.key.length === 0) return [];
  const columns = table.contract?.columns ?? [];
  if (keepsVersions(spec)) {
    const from = columnWith({ columns }, 'valid from');
    return from === undefined ? [] : [...spec.key, from];
  }
  const { asOf } = keyColumns(spec, columns);
  return asOf === undefined ? spec.key : [...new Set([...spec.key, asOf])];
}

function membersOf(project: Project, table: Definition): Member[] {
  return (table.contract?.columns ?? []).filter(isLookUp).flatMap((c): Member[] => {
    const name = lookedUpTable(table, c.name);
    const other = name === undefined ? undefined : project.tables.get(name);
    if (other?.kind !== 'definition') return [];
    const number = columnWith({ columns: other.contract?.columns ?? [] }, 'surrogate key');
    const meaning = identityOf(other);
    return number === undefined || meaning.length === 0
      ? []
      : [{ column: c.name, table: other.fullName, number, meaning }];
  });
}
