import type { SqlType } from '../catalog/type-names.js';
import type { EdgeKind } from '../model/project.js';

/**
 * Columns of the project's tables, `layer.table.column`, and `layer.table.*` for which rows a table has. Lists hold
 * each once, in the order in which they were met.
 */
export type Origins = readonly string[];
export const NOTHING: Origins = [];

/** The type of a value, and the fields of a row. */
export interface ValueType extends SqlType {
  /** Of a row whose columns are known. */
  readonly fields?: readonly Field[];
}

/** An expression of a query that a column is made by; kept while a column is traced. */
export interface Step {
  /** The column that it makes. */
  readonly name: string;
  /** Where it begins, in bytes; undefined of what has no text of its own, as the parts of a union. */
  readonly location: number | undefined;
  /** The expressions that it is made from, of queries inside of this one. */
  readonly uses: readonly Step[];
}

/** What is known of an expression. */
export interface Value {
  /** Undefined where core cannot say it. */
  readonly type: ValueType | undefined;
  /** What gives the value. */
  readonly value: Origins;
  /** What decides how rows pair, group or order for this value alone; what decides the rows is the block's. */
  readonly influence: Origins;
  readonly kind: EdgeKind;
  readonly step?: Step | undefined;
}

/** A column of a query or of an item of FROM. */
export interface Field extends Value {
  readonly name: string;
  /** Not one of those that `*` gives: the marks of a search inside of its recursion. */
  readonly hidden?: boolean;
}

/** A query's columns, undefined where they cannot be known, and what decides which rows it has. */
export interface Block {
  readonly fields: readonly Field[] | undefined;
  readonly rows: Origins;
}

export const CONSTANT: Value = { type: undefined, value: NOTHING, influence: NOTHING, kind: 'calculated' };

const RANK: Readonly<Record<EdgeKind, number>> = { copied: 0, cast: 1, calculated: 2, aggregated: 3 };

/** The one of two kinds that does more to a value. */
export const stronger = (a: EdgeKind, b: EdgeKind): EdgeKind => (RANK[a] >= RANK[b] ? a : b);

export function union(a: Origins, b: Origins): Origins {
  if (b.length === 0 || a === b) return a;
  if (a.length === 0) return b;
  if (b.length === 1) return a.includes(b[0]!) ? a : [...a, b[0]!];
  return [...new Set([...a, ...b])];
}

/** Collects origins, each once. */
export class Gathered {
  private readonly set = new Set<string>();

  add(origins: Origins): void {
    for (const origin of origins) this.set.add(origin);
  }

  /** All of a value: what gives it and what influences it. */
  addAll(value: Value): void {
    this.add(value.value);
    this.add(value.influence);
  }

  get all(): Origins {
    return this.set.size ? [...this.set] : NOTHING;
  }
}

/** What is calculated from a value, with the type that comes of it. */
export const calculated = (from: Value, type: ValueType | undefined): Value => ({
  type,
  value: from.value,
  influence: from.influence,
  kind: stronger(from.kind, 'calculated'),
});

/** Several values together, without a type. */
export function mergeOf(values: readonly Value[]): Value {
  let { kind } = CONSTANT;
  for (const v of values) kind = stronger(kind, v.kind);
  if (values.length < 3) {
    const [a = CONSTANT, b = CONSTANT] = values;
    return { type: undefined, value: union(a.value, b.value), influence: union(a.influence, b.influence), kind };
  }
  const [value, influence] = [new Gathered(), new Gathered()];
  for (const v of values) {
    value.add(v.value);
    influence.add(v.influence);
  }
  return { type: undefined, value: value.all, influence: influence.all, kind };
}
