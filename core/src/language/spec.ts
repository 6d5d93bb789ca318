import { columnWith } from './roles.js';
import type { Definition, ColumnDeclaration } from '../model/project.js';
import { unreachable } from '../model/unreachable.js';
import { namesIn, optionOf, columnOption } from './contract.js';
import type { TableOption } from './options.js';

interface Common {
  /** The business key. */
  readonly key: readonly string[];
  readonly keyMethod: 'sequence' | 'hash';
  readonly addsDrift: boolean;
}

/** A load that may find the rows of its table changed. */
interface Changing {
  /** How changes are written; undefined where their share decides. */
  readonly shape: 'in_place' | 'rewrite' | undefined;
}

/** A load that may remove rows which its query does not return. */
interface Removing<Missing extends string> extends Changing {
  readonly missingRows: Missing;
  /** Whether a query without rows is loaded all the same. */
  readonly allowsEmpty: boolean;
  /** A count, or a share such as `20%`. */
  readonly largestLoss: string | undefined;
}

export interface ViewSpec extends Common {
  readonly kind: 'view';
}
export interface RebuildSpec extends Common {
  readonly kind: 'rebuild';
}
export interface AppendSpec extends Common {
  readonly kind: 'append';
  readonly watermark: string;
  readonly lookBack: string | undefined;
}
export interface MergeSpec extends Common, Removing<'keep' | 'delete' | 'flag'> {
  readonly kind: 'merge';
  /** The columns that it updates; undefined for all. */
  readonly setColumns: readonly string[] | undefined;
  /** Conditions over `q` and `t`, as written. */
  readonly updateWhen: string | undefined;
  readonly insertWhen: string | undefined;
  readonly deleteWhen: string | undefined;
}
/** A history whose query says what holds now. */
export interface HistorySpec extends Common, Removing<'keep' | 'close'> {
  readonly kind: 'history';
  readonly overwriteScope: 'all' | 'current';
}
/** A history whose query returns events. */
export interface EventsSpec extends Common, Changing {
  readonly kind: 'events';
  readonly effectiveFrom: string;
  readonly orderWithin: string | undefined;
  readonly overwriteScope: 'all' | 'current';
}
export interface DatedSpec extends Common {
  readonly kind: 'dated';
  readonly keepCopies: string | undefined;
}

/** How a definition is loaded, read once from its contract. */
export type LoadSpec = ViewSpec | RebuildSpec | AppendSpec | MergeSpec | HistorySpec | EventsSpec | DatedSpec;

const known = new WeakMap<Definition, LoadSpec>();

/** How a definition is loaded. What its contract says wrongly is a diagnostic, and read as if it were not said. */
export function specOf(table: Definition): LoadSpec {
  const before = known.get(table);
  if (before) return before;
  const spec = readSpec(table);
  known.set(table, spec);
  return spec;
}

function readSpec(table: Definition): LoadSpec {
  const option = (name: TableOption) => optionOf(table, name);
  const oneOf = <T extends string>(name: TableOption, ...values: readonly T[]): T | undefined =>
    values.find((v) => v === option(name));
  const common: Common = {
    key: namesIn(option('business_key')),
    keyMethod: oneOf('key_method', 'hash') ?? 'sequence',
    addsDrift: oneOf('drift', 'add') !== undefined,
  };
  const changing: Changing = { shape: oneOf('shape', 'in_place', 'rewrite') };
  const removing = {
    ...changing,
    allowsEmpty: oneOf('empty', 'allow') !== undefined,
    largestLoss: option('largest_loss'),
  };
  const { policy } = table;
  switch (policy) {
    case 'view':
    case 'rebuild':
      return { ...common, kind: policy };
    case 'append':
      return { ...common, kind: policy, watermark: option('watermark') ?? '', lookBack: option('look_back') };
    case 'merge': {
      const set = option('set_columns');
      return {
        ...common,
        ...removing,
        kind: policy,
        missingRows: oneOf('missing_rows', 'delete', 'flag') ?? 'keep',
        setColumns: set === undefined ? undefined : namesIn(set),
        updateWhen: option('update_when'),
        insertWhen: option('insert_when'),
        deleteWhen: option('delete_when'),
      };
    }
    case 'history': {
      const overwriteScope = oneOf('overwrite_scope', 'current') ?? 'all';
      const effectiveFrom = option('effective_from');
      if (effectiveFrom !== undefined)
        return {
          ...common,
          ...changing,
          kind: 'events',
          effectiveFrom,
          orderWithin: option('order_within'),
          overwriteScope,
        };
      return {
        ...common,
        ...removing,
        kind: policy,
        missingRows: oneOf('missing_rows', 'close') ?? 'keep',
        overwriteScope,
      };
    }
    case 'dated':
      return { ...common, kind: policy, keepCopies: option('keep_copies') };
    default:
      return unreachable(policy);
  }
}

/** Whether the load joins rows that are there already with rows of the query by a business key of which each row has its own. */
export const keepsOneRowAKey = (spec: LoadSpec): spec is MergeSpec | HistorySpec =>
  spec.kind === 'merge' || spec.kind === 'history';

/** Whether the load keeps versions of a row. */
export const keepsVersions = (spec: LoadSpec): spec is HistorySpec | EventsSpec =>
  spec.kind === 'history' || spec.kind === 'events';

/** Columns of the query that may not be null, and those by which no two of its rows may agree. */
export interface KeyColumns {
  readonly needed: readonly string[];
  readonly unique: readonly string[];
  /** The date of a dated table's rows. */
  readonly asOf?: string;
}

/** What is asked of the keys of the query's rows before anything is changed. @param columns of the contract */
export function keyColumns(spec: LoadSpec, columns: readonly ColumnDeclaration[]): KeyColumns {
  const { key } = spec;
  switch (spec.kind) {
    case 'view':
    // A rebuilt table is checked against its contract as a whole.
    case 'rebuild':
      return { needed: [], unique: [] };
    case 'append':
    case 'merge':
    case 'history':
      return { needed: key, unique: key };
    case 'events':
      return { needed: [...key, spec.effectiveFrom], unique: [] };
    case 'dated': {
      const asOf = columnWith({ columns }, 'as of');
      if (asOf === undefined) return { needed: [], unique: key };
      return { needed: [asOf], unique: key.length ? [...new Set([...key, asOf])] : [], asOf };
    }
    default:
      return unreachable(spec);
  }
}

/** Whether a load compares a column that is not part of the key between rows. */
export function comparesColumn(spec: LoadSpec, column: ColumnDeclaration): boolean {
  switch (spec.kind) {
    case 'view':
    case 'rebuild':
    case 'append':
      return false;
    case 'merge':
      return !spec.setColumns?.length || spec.setColumns.includes(column.name);
    case 'history':
      return columnOption(column, 'on_change') !== 'keep';
    case 'events':
    case 'dated':
      return true;
    default:
      return unreachable(spec);
  }
}
