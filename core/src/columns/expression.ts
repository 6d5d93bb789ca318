import type { A_Const, A_Expr, CaseExpr, Node, SelectStmt, SubLink } from 'libpg-query';
import { chooseOperator } from '../catalog/choose.js';
import { isArray, UNKNOWN } from '../catalog/coercion.js';
import { typeOfKey, typeOfName, type SqlType } from '../catalog/type-names.js';
import { strings } from '../sql/nodes.js';
import { call } from './calls.js';
import { commonOf } from './common.js';
import { reference, withFields } from './names.js';
import { readEach, uses, type Place, type Reader } from './reader.js';
import { array, indirection, row } from './rows.js';
import { calculated, CONSTANT, mergeOf, NOTHING, stronger, union, type Value } from './value.js';

const BOOLEAN = typeOfKey('bool');
const UNTYPED = typeOfKey(UNKNOWN);

/** What is known of an expression; problems of its names are reported. */
export function readExpression(reader: Reader, node: Node, place: Place): Value {
  if (reader.budget.left-- <= 0) return CONSTANT;
  for (const kind in node) {
    const read = KINDS[kind];
    const inner = (node as unknown as Record<string, object>)[kind]!;
    return read
      ? read(reader, inner as never, place)
      : calculated(readAll(reader, Object.values(inner), place), undefined);
  }
  return CONSTANT;
}

type ReadKind = (reader: Reader, node: never, place: Place) => Value;
const KINDS: Readonly<Record<string, ReadKind>> = {
  ColumnRef: reference as ReadKind,
  A_Const: constant as ReadKind,
  TypeCast: (reader, { arg, typeName }: { arg?: Node; typeName?: never }, place) => {
    const inner = arg ? readExpression(reader, arg, place) : CONSTANT;
    const type = typeName && typeOfName(reader.catalog, typeName);
    return { ...inner, type: type && withFields(reader, type), kind: stronger(inner.kind, 'cast') };
  },
  FuncCall: call as ReadKind,
  A_Expr: operation as ReadKind,
  BoolExpr: test,
  NullTest: test,
  BooleanTest: test,
  CaseExpr: caseOf as ReadKind,
  CoalesceExpr: (reader, { args }: { args?: Node[] }, place) => commonOf(reader.catalog, readEach(reader, args, place)),
  MinMaxExpr: (reader, { args }: { args?: Node[] }, place) => commonOf(reader.catalog, readEach(reader, args, place)),
  SubLink: subLink as ReadKind,
  RowExpr: row as ReadKind,
  A_ArrayExpr: array as ReadKind,
  A_Indirection: indirection as ReadKind,
  CollateClause: (reader, { arg }: { arg?: Node }, place) => (arg ? readExpression(reader, arg, place) : CONSTANT),
  NamedArgExpr: (reader, { arg }: { arg?: Node }, place) => (arg ? readExpression(reader, arg, place) : CONSTANT),
  GroupingFunc: (reader, node, place) => calculated(readAll(reader, Object.values(node), place), typeOfKey('int4')),
  SQLValueFunction: (_reader, { op, typmod }: { op?: string; typmod?: number }) => ({
    ...CONSTANT,
    type: sqlValueType(op ?? '', typmod),
  }),
  XmlExpr: (reader, node: { op?: string; args?: Node[]; named_args?: Node[] }, place) =>
    calculated(
      mergeOf([...readEach(reader, node.args, place), ...readEach(reader, unnamed(node.named_args), place)]),
      node.op === 'IS_DOCUMENT' ? BOOLEAN : typeOfKey('xml'),
    ),
  XmlSerialize: (reader, { expr, typeName }: { expr?: Node; typeName?: never }, place) =>
    calculated(expr ? readExpression(reader, expr, place) : CONSTANT, typeName && typeOfName(reader.catalog, typeName)),
};

const unnamed = (nodes: readonly Node[] | undefined): Node[] =>
  (nodes ?? []).flatMap((n) => ('ResTarget' in n && n.ResTarget.val ? [n.ResTarget.val] : []));

/** All expressions below fields of a node that has no rule of its own. */
function readAll(reader: Reader, parts: readonly unknown[], place: Place): Value {
  const found: Value[] = [];
  for (const part of parts) {
    if (typeof part !== 'object' || part === null) continue;
    if (Array.isArray(part)) found.push(readAll(reader, part, place));
    else if (isNode(part)) found.push(readExpression(reader, part, place));
    else found.push(readAll(reader, Object.values(part), place));
  }
  return mergeOf(found);
}

/** Nodes are objects of one field in capitals. */
const isNode = (part: object): part is Node => {
  const [name, ...others] = Object.keys(part);
  return others.length === 0 && name !== undefined && /^[A-Z]/.test(name);
};

function test(reader: Reader, node: never, place: Place): Value {
  return calculated(readAll(reader, Object.values(node), place), BOOLEAN);
}

function constant(_reader: Reader, { ival, fval, sval, boolval, bsval, isnull }: A_Const): Value {
  if (isnull || sval) return { ...CONSTANT, type: UNTYPED };
  if (ival) return { ...CONSTANT, type: typeOfKey('int4') };
  if (boolval) return { ...CONSTANT, type: BOOLEAN };
  if (bsval) return { ...CONSTANT, type: typeOfKey('bit') };
  if (!fval) return { ...CONSTANT, type: UNTYPED };
  const digits = fval.fval ?? '';
  const isWhole = /^-?\d+$/.test(digits) && BigInt.asIntN(64, BigInt(digits)) === BigInt(digits);
  return { ...CONSTANT, type: typeOfKey(isWhole ? 'int8' : 'numeric') };
}

function sqlValueType(op: string, precision: number | undefined): SqlType {
  const name = op.replace(/^SVFOP_/, '').replace(/_N$/, '');
  const types: Readonly<Record<string, string>> = {
    CURRENT_DATE: 'date',
    CURRENT_TIME: 'timetz',
    CURRENT_TIMESTAMP: 'timestamptz',
    LOCALTIME: 'time',
    LOCALTIMESTAMP: 'timestamp',
  };
  return typeOfKey(types[name] ?? 'name', op.endsWith('_N') ? `(${Math.min(6, precision ?? 0)})` : '');
}

// Operators --------------------------------------------------------------------------------------

function operation(reader: Reader, node: A_Expr, place: Place): Value {
  const sides = [node.lexpr, node.rexpr].map((side) =>
    side === undefined
      ? undefined
      : 'List' in side
        ? mergeOf(readEach(reader, side.List.items, place))
        : readExpression(reader, side, place),
  );
  const [left, right] = sides;
  const all = mergeOf(sides.filter((v) => v !== undefined));
  switch (node.kind) {
    case 'AEXPR_OP': {
      const name = strings(node.name).at(-1)!;
      const isRow = (n: Node | undefined) => n !== undefined && 'RowExpr' in n;
      if (isRow(node.lexpr) && (isRow(node.rexpr) || isSubquery(node.rexpr))) return calculated(all, BOOLEAN);
      const chosen = chooseOperator(reader.catalog, name, left ? left.type?.key : null, right?.type?.key);
      return calculated(all, chosen?.result === undefined ? undefined : typeOfKey(chosen.result));
    }
    case 'AEXPR_NULLIF': {
      // What is given is the left side as the comparison takes it.
      const taken = chooseOperator(reader.catalog, '=', left?.type?.key, right?.type?.key)?.left;
      if (taken === undefined) return calculated(all, undefined);
      return calculated(all, taken === left?.type?.key || taken.startsWith('any') ? left?.type : typeOfKey(taken));
    }
    default:
      return calculated(all, BOOLEAN);
  }
}
const isSubquery = (node: Node | undefined) => node !== undefined && 'SubLink' in node;

function caseOf(reader: Reader, node: CaseExpr, place: Place): Value {
  const conditions: Node[] = node.arg ? [node.arg] : [];
  const results: Node[] = node.defresult ? [node.defresult] : [];
  for (const when of node.args ?? [])
    if ('CaseWhen' in when) {
      if (when.CaseWhen.expr) conditions.push(when.CaseWhen.expr);
      if (when.CaseWhen.result) results.push(when.CaseWhen.result);
    }
  const values = readEach(reader, results, place);
  // Without ELSE the result may be null.
  const { type } = commonOf(reader.catalog, node.defresult ? values : [{ ...CONSTANT, type: UNTYPED }, ...values]);
  return calculated(mergeOf([...readEach(reader, conditions, place), ...values]), type);
}

// Queries in expressions -------------------------------------------------------------------------

function subLink(reader: Reader, link: SubLink, place: Place): Value {
  const select =
    link.subselect && 'SelectStmt' in link.subselect ? (link.subselect.SelectStmt as SelectStmt) : undefined;
  const block = select
    ? reader.query(reader, select, { outer: place.scope, ctes: place.ctes })
    : { fields: undefined, rows: NOTHING };
  const left = link.testexpr ? readExpression(reader, link.testexpr, place) : CONSTANT;
  if (link.subLinkType === 'EXISTS_SUBLINK')
    return { type: BOOLEAN, value: NOTHING, influence: block.rows, kind: 'calculated' };
  for (const made of block.fields ?? []) uses(reader, made);
  const inner = mergeOf(block.fields ?? []);
  const both = mergeOf([left, inner]);
  const influence = union(both.influence, block.rows);
  const [field] = block.fields ?? [];
  const kind = stronger(both.kind, 'calculated');
  switch (link.subLinkType) {
    case 'EXPR_SUBLINK':
      return { ...both, influence, kind, type: field?.type };
    case 'ARRAY_SUBLINK': {
      const type = field?.type && reader.catalog.type(field.type.key);
      const key = type && (type.array ?? (isArray(type) ? type.key : undefined));
      return { ...both, influence, kind, type: key && field?.type ? typeOfKey(key, field.type.mod) : undefined };
    }
    default:
      return { ...both, influence, kind, type: BOOLEAN };
  }
}
