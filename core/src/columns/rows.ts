import type { A_Indirection, Node } from 'libpg-query';
import { elementOf, isArray, RECORD } from '../catalog/coercion.js';
import { typeOfKey, type SqlType } from '../catalog/type-names.js';
import { commonOf, withoutUnknown } from './common.js';
import { ofRow, starFields, withFields } from './names.js';
import { readEach, spend, type Place, type Reader } from './reader.js';
import { calculated, CONSTANT, mergeOf, type Field, type Value, type ValueType } from './value.js';

/** `row(…)`. */
export function row(reader: Reader, { args }: { readonly args?: Node[] }, place: Place): Value {
  const fields: Field[] = [];
  let known = true;
  for (const arg of args ?? []) {
    const expanded = expandStar(reader, arg, place);
    if (expanded === undefined) {
      const value = reader.expression(reader, arg, place);
      fields.push({ ...withoutUnknown(value), name: `f${fields.length + 1}` });
    } else if (expanded === null) known = false;
    else for (const f of expanded) fields.push({ ...f, name: `f${fields.length + 1}` });
  }
  return calculated(mergeOf(fields), { key: RECORD, mod: '', ...(known ? { fields } : {}) });
}

/** The columns of a star, `(row).*` included; undefined where a node is none, null where they cannot be known. */
export function expandStar(reader: Reader, node: Node, place: Place): readonly Field[] | null | undefined {
  const fields = starOfNode(reader, node, place);
  return fields && !spend(reader, fields.length) ? null : fields;
}

function starOfNode(reader: Reader, node: Node, place: Place): readonly Field[] | null | undefined {
  if ('ColumnRef' in node) {
    const last = node.ColumnRef.fields?.at(-1);
    return last && 'A_Star' in last ? (starFields(reader, node.ColumnRef, place) ?? null) : undefined;
  }
  if (!('A_Indirection' in node)) return undefined;
  const { arg, indirection } = node.A_Indirection;
  const last = indirection?.at(-1);
  if (!last || !('A_Star' in last) || !arg) return undefined;
  const inner = step(reader, reader.expression(reader, arg, place), indirection!.slice(0, -1), place);
  const type = inner.type && withFields(reader, inner.type);
  return type?.fields?.map((f): Field => ({ ...ofRow(inner, f), name: f.name })) ?? null;
}

/** `(row).field`, `array[1]`. */
export function indirection(reader: Reader, node: A_Indirection, place: Place): Value {
  const inner = node.arg ? reader.expression(reader, node.arg, place) : CONSTANT;
  return step(reader, inner, node.indirection ?? [], place);
}

/** Values taken out of a value: by `.field`, by `[subscript]`. */
function step(reader: Reader, from: Value, steps: readonly Node[], place: Place): Value {
  let value = from;
  const isSlice = steps.some((s) => 'A_Indices' in s && s.A_Indices.is_slice);
  for (const [i, node] of steps.entries()) {
    if ('String' in node) {
      const type = value.type && withFields(reader, value.type);
      const field = type?.fields?.find((f) => f.name === node.String.sval);
      value = field ? ofRow(value, field) : { ...value, type: undefined };
    } else if ('A_Indices' in node) {
      const { lidx, uidx } = node.A_Indices;
      const bounds = mergeOf(
        readEach(
          reader,
          [lidx, uidx].filter((n) => n !== undefined),
          place,
        ),
      );
      const before = steps[i - 1];
      const type = before && 'A_Indices' in before ? value.type : subscripted(reader, value.type, isSlice);
      value = calculated(mergeOf([value, bounds]), type);
    }
  }
  return value;
}

function subscripted(reader: Reader, type: ValueType | undefined, isSlice: boolean): SqlType | undefined {
  if (!type) return undefined;
  if (type.key === 'jsonb') return type;
  const element = elementOf(reader.catalog, type.key) ?? reader.catalog.type(type.key)?.element;
  if (element === undefined) return undefined;
  return isSlice ? typeOfKey(type.key, type.mod) : withFields(reader, typeOfKey(element, type.mod));
}

/** `array[…]`. */
export function array(reader: Reader, { elements }: { readonly elements?: Node[] }, place: Place): Value {
  const values = readEach(reader, elements, place);
  const all = mergeOf(values);
  if (values.length === 0) return calculated(all, undefined);
  const common = commonOf(reader.catalog, values).type;
  const found = common && reader.catalog.type(common.key);
  if (!found) return calculated(all, undefined);
  const key = isArray(found) ? found.key : found.array;
  return calculated(all, key === undefined ? undefined : typeOfKey(key, common.mod));
}
