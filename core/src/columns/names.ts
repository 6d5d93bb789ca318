import type { ColumnRef } from 'libpg-query';
import { chooseFunction } from '../catalog/choose.js';
import { baseOf, isRow, RECORD } from '../catalog/coercion.js';
import { typeOfKey } from '../catalog/type-names.js';
import { strings } from '../sql/nodes.js';
import { uses, type Place, type Reader } from './reader.js';
import { findRange, lookUp, rangeNames, starOf, type Fields, type RangeEntry } from './scope.js';
import { calculated, CONSTANT, mergeOf, NOTHING, union, type Field, type Value, type ValueType } from './value.js';

/** What a name stands for: a column, a field of one, or the row of a table. */
export function reference(reader: Reader, ref: ColumnRef, place: Place): Value {
  const parts = strings(ref.fields);
  const location = ref.location ?? 0;
  if (parts.length < (ref.fields?.length ?? 0)) {
    // A star in an expression is the row as one value.
    const range = parts.length
      ? findRange(place.scope, parts.at(-1)!, parts.length > 1 ? parts.at(-2) : undefined)
      : undefined;
    if (range) return rowOf(range.entry);
    const fields = starFields(reader, ref, place);
    return fields ? { ...mergeOf(fields), kind: 'copied' } : CONSTANT;
  }
  const found = lookUp(place.scope, parts);
  switch (found.kind) {
    case 'found':
      uses(reader, found.value);
      reader.watch?.(location, parts, found.value);
      return found.value;
    case 'row':
      for (const field of found.range.fields ?? []) uses(reader, field);
      return rowOf(found.range);
    case 'uncertain':
      return CONSTANT;
    case 'ambiguous':
      reader.problems.push({ kind: 'ambiguous', location, parts, tables: found.tables });
      return CONSTANT;
    case 'missing': {
      const field = parts.length > 1 ? fieldOfRow(reader, parts, place) : undefined;
      if (field) return field;
      reader.problems.push({ kind: found.range ? 'unknown' : 'unknown-range', location, parts, names: found.names });
      return CONSTANT;
    }
  }
}

/** `column.field`, and `row.function` as PostgreSQL also lets it be written; undefined where it is neither. */
function fieldOfRow(reader: Reader, parts: readonly string[], place: Place): Value | undefined {
  const field = parts.at(-1)!;
  const range = parts.length === 2 ? findRange(place.scope, parts[0]!) : undefined;
  if (range) {
    const chosen =
      range.entry.rowType === undefined
        ? undefined
        : chooseFunction(reader.catalog, { name: field, args: [{ type: range.entry.rowType }] });
    return chosen && calculated(rowOf(range.entry), chosen.result === undefined ? undefined : typeOfKey(chosen.result));
  }
  const outer = lookUp(place.scope, parts.slice(0, -1));
  if (outer.kind === 'uncertain') return CONSTANT;
  if (outer.kind !== 'found') return undefined;
  const row = outer.value;
  const type = row.type && withFields(reader, row.type);
  if (!type) return { ...row, type: undefined };
  if (!type.fields)
    return isRow(reader.catalog, type.key) || !reader.catalog.type(type.key) ? { ...row, type: undefined } : undefined;
  const found = type.fields.find((f) => f.name === field);
  return found && ofRow(row, found);
}

/** A field as a part of the row that it is taken from. */
export const ofRow = (row: Value, field: Field): Value => ({
  type: field.type,
  value: field.value.length ? field.value : row.value,
  influence: union(row.influence, field.influence),
  kind: field.value.length ? field.kind : row.kind,
});

const rows = new WeakMap<RangeEntry, Value>();

/** A row of a table as one value, the same each time. */
function rowOf(range: RangeEntry): Value {
  let row = rows.get(range);
  if (!row) rows.set(range, (row = readRow(range)));
  return row;
}

function readRow(range: RangeEntry): Value {
  if (range.isScalar && range.fields?.length) return range.fields[0]!;
  const fields = range.fields?.filter((f) => !f.hidden);
  const all = mergeOf(fields ?? []);
  return { ...all, kind: 'copied', type: { key: range.rowType ?? RECORD, mod: '', ...(fields ? { fields } : {}) } };
}

/** A row type of the catalog with its columns. */
export function withFields(reader: Reader, type: ValueType): ValueType {
  const key = type.fields ? undefined : baseOf(reader.catalog, type.key);
  if (key === undefined) return type;
  const dot = key.lastIndexOf('.');
  const known = reader.catalog.type(key);
  // Rows of the project's tables are types, too.
  if (known ? known.kind !== 'c' : dot < 0) return type;
  const relation = reader.relation(dot < 0 ? undefined : key.slice(0, dot), key.slice(dot + 1));
  const fields = relation?.fields?.map((f): Field => ({ ...f, value: NOTHING, influence: NOTHING }));
  return fields ? { ...type, fields } : type;
}

/** What `*`, `table.*` gives. */
export function starFields(reader: Reader, ref: ColumnRef, { scope }: Place): Fields {
  const parts = strings(ref.fields);
  if (parts.length === 0) return starOf(scope);
  const range = findRange(scope, parts.at(-1)!, parts.length > 1 ? parts.at(-2) : undefined);
  if (range) return range.entry.fields?.filter((f) => !f.hidden);
  const column = lookUp(scope, parts);
  if (column.kind === 'found') {
    const type = column.value.type && withFields(reader, column.value.type);
    return type?.fields?.map((f): Field => ({ ...ofRow(column.value, f), name: f.name }));
  }
  if (column.kind === 'uncertain') return undefined;
  reader.problems.push({ kind: 'unknown-range', location: ref.location ?? 0, parts, names: rangeNames(scope) });
  return undefined;
}
