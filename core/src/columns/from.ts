import type {
  Alias,
  FuncCall,
  JoinExpr,
  Node,
  RangeFunction,
  RangeSubselect,
  RangeTableFunc,
  RangeVar,
} from 'libpg-query';
import { baseOf, RECORD } from '../catalog/coercion.js';
import { typeOfKey, typeOfName } from '../catalog/type-names.js';
import { FUNCTIONS_SCHEMA } from '../index/mentions.js';
import { strings } from '../sql/nodes.js';
import { readCall } from './calls.js';
import { commonOf } from './common.js';
import { withFields } from './names.js';
import { firstLocation } from './location.js';
import { outputName } from './output-name.js';
import { readEach, spend, type Place, type Reader } from './reader.js';
import {
  combine,
  EMPTY,
  single,
  starOf,
  within,
  type Fields,
  type FromItem,
  type RangeEntry,
  type Scope,
} from './scope.js';
import { CONSTANT, mergeOf, type Field, type Value, type ValueType } from './value.js';

/** All items of FROM; what decides their rows is added to those of the place. */
export function readFrom(reader: Reader, items: readonly Node[], place: Place): Scope {
  const { outer } = place.scope;
  let scope = within(EMPTY, outer);
  for (const item of items) scope = within(together(reader, scope, fromItem(reader, item, { ...place, scope })), outer);
  if (scope.ranges.length > 1) reportAliases(reader, items, scope);
  return scope;
}

/** What a column costs that is put beside others, of what may be read: eight are copied as fast as one is read. */
const COPIED = 1 / 8;

/** Two items side by side; of more columns than anybody can read, none is known. */
function together(reader: Reader, a: FromItem, b: FromItem): FromItem {
  const columns = a.bare.length + b.bare.length;
  return spend(reader, columns * COPIED)
    ? combine(a, b)
    : { ranges: [...a.ranges, ...b.ranges].slice(0, 1), bare: [], open: true };
}

/** Two tables of one FROM that bear the same name; of one name in two schemas, without aliases, both are plain. */
function reportAliases(reader: Reader, items: readonly Node[], { ranges }: Scope): void {
  const seen = new Map<string, (string | undefined)[]>();
  for (const { name, schema } of ranges) {
    if (name === '') continue;
    const before = seen.get(name) ?? [];
    if (before.some((other) => other === undefined || schema === undefined || other === schema))
      reader.problems.push({
        kind: 'alias',
        location: locationsOf(items, name).at(-1) ?? firstLocation(items) ?? 0,
        name,
      });
    seen.set(name, [...before, schema]);
  }
}

/** Where FROM items of a name stand, in their order. */
function locationsOf(items: readonly Node[], name: string): number[] {
  return items.flatMap((node): number[] => {
    if ('RangeVar' in node)
      return (node.RangeVar.alias?.aliasname ?? node.RangeVar.relname) === name ? [node.RangeVar.location ?? 0] : [];
    if ('RangeSubselect' in node)
      return node.RangeSubselect.alias?.aliasname === name ? [firstLocation(node.RangeSubselect.subquery) ?? 0] : [];
    if ('JoinExpr' in node) return locationsOf([node.JoinExpr.larg!, node.JoinExpr.rarg!], name);
    return [];
  });
}

/** @param place what stands to the left of the item is its scope: visible to lateral items only */
function fromItem(reader: Reader, node: Node, place: Place): FromItem {
  const item = itemOf(reader, node, place);
  reader.scopes?.items.set(node, item);
  return item;
}

function itemOf(reader: Reader, node: Node, place: Place): FromItem {
  if ('RangeVar' in node) return tableItem(reader, node.RangeVar, place);
  if ('RangeSubselect' in node) return subselectItem(reader, node.RangeSubselect, place);
  if ('RangeFunction' in node) return functionItem(reader, node.RangeFunction, place);
  if ('JoinExpr' in node) return joinItem(reader, node.JoinExpr, place);
  if ('RangeTableFunc' in node) return xmlTableItem(reader, node.RangeTableFunc, place);
  if ('RangeTableSample' in node && node.RangeTableSample.relation) {
    const { relation, args, repeatable } = node.RangeTableSample;
    for (const value of readEach(reader, repeatable ? [...(args ?? []), repeatable] : args, place))
      place.rows.addAll(value);
    return fromItem(reader, relation, place);
  }
  return single({ name: '', fields: undefined });
}

function tableItem(reader: Reader, range: RangeVar, place: Place): FromItem {
  const name = range.relname ?? '';
  const cte = range.schemaname === undefined ? place.ctes.get(name) : undefined;
  if (cte) {
    const inside = cte.inside();
    const block = inside?.block ?? cte.block();
    place.rows.add(block.rows);
    const fields = block.fields && inside ? [...block.fields, ...inside.extra] : block.fields;
    return aliased(reader, range.alias, { name, fields });
  }
  const relation = reader.relation(range.schemaname, name);
  if (relation) place.rows.add(relation.rows);
  return aliased(reader, range.alias, {
    name,
    schema: range.schemaname,
    fields: relation?.fields,
    rowType: relation?.rowType,
  });
}

/** An item under its alias, its columns under those that the alias names. */
function aliased(reader: Reader, alias: Alias | undefined, entry: RangeEntry, location?: number): FromItem {
  if (!alias?.aliasname) return single(entry);
  const names = strings(alias.colnames);
  const known = entry.fields?.filter((f) => !f.hidden).length;
  if (known !== undefined && names.length > known)
    reader.problems.push({
      kind: 'names',
      location: location ?? 0,
      table: alias.aliasname,
      given: names.length,
      columns: known,
    });
  return single({ ...entry, name: alias.aliasname, schema: undefined, fields: renamed(names, entry.fields) });
}

/** Columns under the names of an alias list; the rest keep theirs. */
export function renamed(names: readonly string[], fields: Fields): Fields {
  if (!fields || names.length === 0) return fields;
  return fields.map((f, i) => (names[i] === undefined ? f : { ...f, name: names[i] }));
}

function subselectItem(reader: Reader, range: RangeSubselect, place: Place): FromItem {
  const query = range.subquery && 'SelectStmt' in range.subquery ? range.subquery.SelectStmt : undefined;
  if (!query) return single({ name: range.alias?.aliasname ?? '', fields: undefined });
  const block = reader.query(reader, query, {
    outer: range.lateral ? place.scope : place.scope.outer,
    ctes: place.ctes,
  });
  place.rows.add(block.rows);
  return aliased(reader, range.alias, { name: '', fields: block.fields }, firstLocation(range.subquery));
}

// Functions --------------------------------------------------------------------------------------

function functionItem(reader: Reader, range: RangeFunction, place: Place): FromItem {
  const functions = (range.functions ?? []).flatMap((node) => {
    const items = 'List' in node ? (node.List.items ?? []) : [];
    const [fn, declared] = items;
    const definitions = declared && 'List' in declared ? (declared.List.items ?? []) : [];
    return fn ? unnested(fn).map((one) => ({ fn: one, declared: definitions })) : [];
  });
  const alias = range.alias?.aliasname;
  let fields: Fields = [];
  let isScalar = functions.length === 1 && !range.ordinality;
  let rowType: string | undefined;
  for (const { fn, declared } of functions) {
    const definitions = declared.length ? declared : functions.length === 1 ? (range.coldeflist ?? []) : [];
    const found = functionFields(reader, fn, { alias: functions.length === 1 ? alias : undefined, definitions, place });
    fields = fields && found.fields && [...fields, ...found.fields];
    isScalar &&= found.isScalar;
    rowType = functions.length === 1 ? found.rowType : undefined;
  }
  if (fields && range.ordinality) fields = [...fields, { ...CONSTANT, name: 'ordinality', type: typeOfKey('int8') }];
  const names = strings(range.alias?.colnames);
  // Names alone say how a set is read of which nothing else is known.
  if (!fields && names.length && range.coldeflist === undefined) return openAliased(alias ?? '', names);
  const name = alias ?? (functions.length === 1 ? outputName(functions[0]!.fn) : '');
  const entry = { name, fields, isScalar, rowType };
  return range.alias ? aliased(reader, range.alias, entry, firstLocation(range.functions)) : single(entry);
}

/** `unnest` of several arrays is several functions beside each other. */
function unnested(fn: Node): Node[] {
  if (!('FuncCall' in fn)) return [fn];
  const { funcname, args = [] } = fn.FuncCall;
  const isUnnest = strings(funcname).at(-1) === 'unnest' && args.length > 1;
  return isUnnest ? args.map((arg) => ({ FuncCall: { ...fn.FuncCall, args: [arg] } })) : [fn];
}

/** The columns that are named, of a function whose own are not known. */
const openAliased = (name: string, names: readonly string[]): FromItem => {
  const fields = names.map((n): Field => ({ ...CONSTANT, name: n }));
  return { ranges: [{ name, fields }], bare: fields, open: false };
};

interface FunctionPlace {
  readonly alias: string | undefined;
  readonly definitions: readonly Node[];
  readonly place: Place;
}

function functionFields(
  reader: Reader,
  node: Node,
  { alias, definitions, place }: FunctionPlace,
): { readonly fields: Fields; readonly isScalar: boolean; readonly rowType?: string } {
  const { value, columns, type } = functionValue(reader, node, place);
  place.rows.addAll(value);
  const each = (name: string, of: ValueType | undefined): Field => ({ ...value, name, type: of });
  if (definitions.length)
    return {
      fields: definitions.flatMap((d) =>
        'ColumnDef' in d
          ? [each(d.ColumnDef.colname ?? '', d.ColumnDef.typeName && typeOfName(reader.catalog, d.ColumnDef.typeName))]
          : [],
      ),
      isScalar: false,
    };
  if (columns && columns.length > 0 && (columns.length > 1 || type === undefined || type.key === RECORD))
    return { fields: columns.map((c) => each(c.name, c.type)), isScalar: columns.length === 1 };
  const row = type && withFields(reader, type);
  if (row?.fields)
    return {
      fields: row.fields.map((f) => each(f.name, f.type)),
      isScalar: false,
      rowType: baseOf(reader.catalog, row.key),
    };
  if (!row || row.key === RECORD || reader.catalog.type(row.key)?.kind === 'c')
    return { fields: undefined, isScalar: false };
  return { fields: [each(columns?.[0]?.name ?? alias ?? outputName(node), row)], isScalar: true };
}

/** A function of FROM, or what the grammar reads in its place (`current_date`, `cast(…)`). */
function functionValue(
  reader: Reader,
  node: Node,
  place: Place,
): {
  readonly value: Value;
  readonly type: ValueType | undefined;
  readonly columns: readonly { readonly name: string; readonly type: ValueType | undefined }[] | undefined;
} {
  if (!('FuncCall' in node)) {
    const value = reader.expression(reader, node, place);
    return { value, type: value.type, columns: undefined };
  }
  const call: FuncCall = node.FuncCall;
  const { value, chosen } = readCall(reader, call, place);
  const names = strings(call.funcname);
  if (names.length === 2 && names[0] === FUNCTIONS_SCHEMA) {
    const declared = reader.declaredFunction(names[1]!);
    return { value, type: declared?.result, columns: declared?.columns };
  }
  const columns = chosen?.columns.map((c) => ({
    name: c.name,
    type: c.type === undefined ? undefined : typeOfKey(c.type),
  }));
  return { value, type: value.type, columns };
}

function xmlTableItem(reader: Reader, range: RangeTableFunc, place: Place): FromItem {
  const inputs = [range.docexpr, range.rowexpr, ...(range.namespaces ?? []).map(valueOfTarget)];
  const value = mergeOf(
    readEach(
      reader,
      inputs.filter((n) => n !== undefined),
      place,
    ),
  );
  place.rows.addAll(value);
  const fields = (range.columns ?? []).flatMap((node): Field[] => {
    if (!('RangeTableFuncCol' in node)) return [];
    const { colname, typeName, for_ordinality, colexpr, coldefexpr } = node.RangeTableFuncCol;
    const own = mergeOf([
      value,
      ...readEach(
        reader,
        [colexpr, coldefexpr].filter((n) => n !== undefined),
        place,
      ),
    ]);
    const type = for_ordinality ? typeOfKey('int4') : typeName && typeOfName(reader.catalog, typeName);
    return [{ ...(for_ordinality ? CONSTANT : own), kind: 'calculated', name: colname ?? '', type }];
  });
  return range.alias
    ? aliased(reader, range.alias, { name: 'xmltable', fields }, firstLocation(range.docexpr))
    : single({ name: 'xmltable', fields });
}
const valueOfTarget = (node: Node): Node | undefined => ('ResTarget' in node ? node.ResTarget.val : node);

// Joins ------------------------------------------------------------------------------------------

function joinItem(reader: Reader, join: JoinExpr, place: Place): FromItem {
  const { scope } = place;
  const a = fromItem(reader, join.larg!, place);
  const b = fromItem(reader, join.rarg!, { ...place, scope: within(together(reader, scope, a), scope.outer) });
  const using = join.isNatural ? commonNames(starOf(a), starOf(b)) : strings(join.usingClause);
  const item: FromItem =
    using === undefined
      ? { ...together(reader, a, b), open: true }
      : using.length || join.isNatural
        ? mergedJoin(reader, join, [a, b], { using, place })
        : together(reader, a, b);
  if (join.quals)
    place.rows.addAll(reader.expression(reader, join.quals, { ...place, scope: within(item, scope.outer) }));
  if (!join.alias?.aliasname) return item;
  return aliased(reader, join.alias, { name: '', fields: starOf(item) }, firstLocation(join.larg));
}

function commonNames(a: Fields, b: Fields): string[] | undefined {
  if (!a || !b) return undefined;
  const right = new Set(b.map((f) => f.name));
  return a.map((f) => f.name).filter((name) => right.has(name));
}

interface Using {
  readonly using: readonly string[];
  readonly place: Place;
}

/** USING and NATURAL: the named columns come first and once. */
function mergedJoin(reader: Reader, join: JoinExpr, sides: readonly [FromItem, FromItem], by: Using): FromItem {
  const [a, b] = sides;
  const { using, place } = by;
  reportUsing(reader, join, sides, using);
  if (!spend(reader, using.length + (a.bare.length + b.bare.length) * COPIED))
    return { ranges: a.ranges, bare: [], open: true };
  const [ofLeft, ofRight] = [byName(a.bare), byName(b.bare)];
  const merged = using.flatMap((name): Field[] => {
    const [left, right] = [ofLeft.get(name), ofRight.get(name)];
    if (!left || !right) return left || right ? [(left ?? right)!] : [];
    place.rows.addAll(left);
    place.rows.addAll(right);
    return [mergedField(reader, join.jointype, left, right)];
  });
  const names = new Set(using);
  const rest = [...a.bare, ...b.bare].filter((f) => !names.has(f.name));
  const ranges = [...a.ranges, ...b.ranges];
  const alias = join.join_using_alias?.aliasname;
  return {
    ranges: alias ? [...ranges, { name: alias, fields: merged }] : ranges,
    bare: [...merged, ...rest],
    open: a.open || b.open,
  };
}

/** The first column of each name. */
function byName(fields: readonly Field[]): ReadonlyMap<string, Field> {
  const found = new Map<string, Field>();
  for (const field of fields) if (!found.has(field.name)) found.set(field.name, field);
  return found;
}

/** What a merged column gives: the side that always has it, or the first of both that is there. */
function mergedField(reader: Reader, kind: string | undefined, left: Field, right: Field): Field {
  const both = commonOf(reader.catalog, [left, right]);
  if (kind === 'JOIN_FULL') return { ...both, name: left.name };
  const side = kind === 'JOIN_RIGHT' ? right : left;
  const isSame = side.type?.key === both.type?.key;
  return { ...side, name: left.name, type: isSame ? side.type : both.type, kind: isSame ? side.kind : 'cast' };
}

function reportUsing(reader: Reader, join: JoinExpr, sides: readonly [FromItem, FromItem], using: readonly string[]) {
  const names = sides.map(
    (side) =>
      side.ranges
        .map((r) => r.name)
        .filter((n) => n !== '')
        .join(', ') || 'the query',
  );
  for (const [i, side] of sides.entries()) {
    const known = byName(side.bare);
    for (const name of using) {
      if (side.open || known.has(name)) continue;
      // The names of USING carry no location: the diagnostic finds their token behind this one.
      const location = firstLocation(i === 0 ? join.larg : join.rarg) ?? 0;
      reader.problems.push({
        kind: 'using',
        location,
        name,
        tables: [names[i]!, names[1 - i]!],
        names: side.bare.map((f) => f.name),
      });
    }
  }
}
