import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { LoadMessage } from './messages.js';
import type { Column, ColumnDeclaration, Definition, OptionValue, Table } from '../../../model/project.js';
import type { Range } from '../../../sql/positions.js';
import { isFilled, isLookUp } from '../../../language/contract.js';
import type { TableOption } from '../../../language/options.js';
import { hasRole, type Role } from '../../../language/roles.js';

/** What a load is held against: the other tables, and the columns that the query returns. */
export interface LoadSurroundings {
  readonly tables: ReadonlyMap<string, Table>;
  readonly query: readonly Column[] | undefined;
  /** Source tables that are brought in incrementally, as far as the query reads them through views. */
  readonly partial: readonly string[];
}

/** A definition as the rules of its load ask it. */
export class CheckedLoad {
  readonly columns: readonly ColumnDeclaration[];
  readonly found: Diagnostic[] = [];

  constructor(
    readonly table: Definition,
    readonly around: LoadSurroundings,
  ) {
    this.columns = table.contract?.columns ?? [];
  }

  option(name: TableOption): OptionValue | undefined {
    return this.table.contract?.options.get(name);
  }

  withRole(role: Role): ColumnDeclaration | undefined {
    return this.columns.find((c) => hasRole(c, role));
  }

  /** Columns whose values come from the query, as they are or looked up. */
  given(): readonly ColumnDeclaration[] {
    return this.columns.filter((c) => !isFilled(c) || isLookUp(c));
  }

  /** @param range where it is shown: at the option `load`, else at the table's name, where it is not given */
  report(message: LoadMessage, range: Range = this.option('load')?.range ?? this.table.nameRange): void {
    const { path, policy } = this.table;
    this.found.push(errorAt({ path, range }, { code: 'policy', policy, ...message }));
  }
}

/** One thing that has to hold of a load. */
export type LoadRule = (load: CheckedLoad) => void;
