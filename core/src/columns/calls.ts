import type { FuncCall, Node, WindowDef } from 'libpg-query';
import { castByCall, chooseFunction, type ChosenFunction } from '../catalog/choose.js';
import { RECORD, UNKNOWN } from '../catalog/coercion.js';
import { typeOfKey } from '../catalog/type-names.js';
import { FUNCTIONS_SCHEMA } from '../index/mentions.js';
import { strings } from '../sql/nodes.js';
import { withFields } from './names.js';
import { readEach, type Place, type Reader } from './reader.js';
import { CONSTANT, mergeOf, stronger, union, type Gathered, type Value, type ValueType } from './value.js';

/** A call, and what was chosen for it. */
export interface ReadCall {
  readonly value: Value;
  readonly chosen: ChosenFunction | undefined;
  /** What the arguments give. */
  readonly args: Value;
}

/** A call in an expression. */
export function call(reader: Reader, node: FuncCall, place: Place): Value {
  const { value, chosen, args } = readCall(reader, node, place);
  const names = strings(node.funcname);
  const declared = names.length === 2 && names[0] === FUNCTIONS_SCHEMA ? reader.declaredFunction(names[1]!) : undefined;
  // Each row of a set is a row of the query.
  if (declared?.returnsSet || chosen?.function.returnsSet) {
    place.rows.add(args.value);
    place.rows.add(args.influence);
  }
  return value;
}

/** Reads a call, its window, its filter and the order of its rows. */
export function readCall(reader: Reader, node: FuncCall, place: Place): ReadCall {
  const names = strings(node.funcname);
  const written = readEach(reader, node.args, place);
  const ordered = readEach(reader, sortNodes(node.agg_order), place);
  const values = node.agg_within_group ? [...written, ...ordered] : written;
  const args = mergeOf(values);
  const influences = [
    ...(node.agg_within_group ? [] : ordered),
    ...(node.agg_filter ? [reader.expression(reader, node.agg_filter, place)] : []),
    ...(node.over ? [windowOf(reader, node.over, place)] : []),
  ];
  const { chosen, type } = resultOf(reader, names, { node, values, written });
  const isAggregate =
    chosen?.function.kind === 'a' ||
    chosen?.function.kind === 'w' ||
    node.over !== undefined ||
    node.agg_star ||
    node.agg_distinct ||
    node.agg_filter;
  return {
    value: {
      type,
      value: args.value,
      influence: influences.reduce((all, v) => union(union(all, v.value), v.influence), args.influence),
      kind: stronger(args.kind, isAggregate ? 'aggregated' : 'calculated'),
    },
    chosen,
    args,
  };
}

function resultOf(
  reader: Reader,
  names: readonly string[],
  {
    node,
    values,
    written,
  }: { readonly node: FuncCall; readonly values: readonly Value[]; readonly written: readonly Value[] },
): { readonly chosen?: ChosenFunction | undefined; readonly type: ValueType | undefined } {
  if (names.length === 2 && names[0] === FUNCTIONS_SCHEMA) {
    const declared = reader.declaredFunction(names[1]!);
    if (declared) return { type: declared.result && withFields(reader, declared.result) };
  }
  const name = names[0] === 'pg_catalog' ? names.slice(1).join('.') : names.join('.');
  const nodes = node.args ?? [];
  const args = values.map((v, i) => {
    const arg = i < written.length ? nodes[i] : undefined;
    return { type: v.type?.key, name: arg && 'NamedArgExpr' in arg ? arg.NamedArgExpr.name : undefined };
  });
  const request = { name, args, variadic: node.func_variadic === true };
  const plain = !node.over && !node.agg_star && !node.agg_distinct && !node.agg_filter && !node.agg_order;
  const chosen = chooseFunction(reader.catalog, request);
  const byCast = plain && !isExact(chosen, values) ? castByCall(reader.catalog, request) : undefined;
  if (byCast !== undefined && (chosen === undefined || values[0]?.type?.key === UNKNOWN))
    return { type: withFields(reader, typeOfKey(byCast)) };
  if (chosen) return { chosen, type: typeOfChosen(reader, chosen, { values, node }) };
  // Rows have their columns as functions, too.
  const row = plain && values.length === 1 && values[0]!.type ? withFields(reader, values[0]!.type) : undefined;
  return { type: row?.fields?.find((f) => f.name === name)?.type };
}

const isExact = (chosen: ChosenFunction | undefined, values: readonly Value[]) =>
  chosen !== undefined && chosen.function.args.every((t, i) => t === values[i]?.type?.key);

/** The type that a chosen function gives; rows with their columns. */
function typeOfChosen(
  reader: Reader,
  { function: { name }, result, columns }: ChosenFunction,
  { values, node }: { readonly values: readonly Value[]; readonly node: FuncCall },
): ValueType | undefined {
  if (result === undefined) return undefined;
  // A cast of length keeps what it is told; `lag` and the like of a row give the row.
  const [first] = values;
  if (first?.type?.fields && result === first.type.key) return first.type;
  if (result === RECORD && columns.length)
    return {
      key: RECORD,
      mod: '',
      fields: columns.map((c) => ({
        ...CONSTANT,
        name: c.name,
        type: c.type === undefined ? undefined : typeOfKey(c.type),
      })),
    };
  if (name === 'timezone' && node.funcformat === 'COERCE_SQL_SYNTAX') return typeOfKey(result);
  return withFields(reader, typeOfKey(result));
}

const sortNodes = (nodes: readonly Node[] | undefined): Node[] =>
  (nodes ?? []).flatMap((n) => ('SortBy' in n && n.SortBy.node ? [n.SortBy.node] : []));

/** What the named windows of a query are made of, by the query's own reading: all calls over one share it. */
const named = new WeakMap<Gathered, Map<WindowDef, Value>>();

/** What a window orders and parts by, as influence. */
function windowOf(reader: Reader, over: WindowDef, place: Place): Value {
  const name = over.name ?? over.refname;
  const index = place.windows.findIndex((w) => 'WindowDef' in w && w.WindowDef.name === name);
  const base = name === undefined ? undefined : place.windows[index];
  const inherited =
    base && 'WindowDef' in base && base.WindowDef !== over
      ? namedWindow(reader, base.WindowDef, index, place)
      : CONSTANT;
  const own = mergeOf(
    readEach(
      reader,
      [
        ...(over.partitionClause ?? []),
        ...sortNodes(over.orderClause),
        ...[over.startOffset, over.endOffset].filter((n) => n !== undefined),
      ],
      place,
    ),
  );
  return { ...CONSTANT, influence: union(inherited.influence, union(own.value, own.influence)) };
}

/** @param index its place among the windows: it is made from those before it */
function namedWindow(reader: Reader, window: WindowDef, index: number, place: Place): Value {
  let known = named.get(place.rows);
  if (!known) named.set(place.rows, (known = new Map()));
  let value = known.get(window);
  if (!value) {
    const before = { ...place, windows: place.windows.slice(0, index) };
    value = windowOf({ ...reader, problems: [] }, { ...window, name: window.refname }, before);
    known.set(window, value);
  }
  return value;
}
