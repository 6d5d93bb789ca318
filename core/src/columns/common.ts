import type { Catalog } from '../catalog/catalog.js';
import { commonType, UNKNOWN } from '../catalog/coercion.js';
import { typeOfKey, type SqlType } from '../catalog/type-names.js';
import { calculated, mergeOf, type Value } from './value.js';

/** Values of which one is the result: their common type, with what all of them were told. */
export function commonOf(catalog: Catalog, values: readonly Value[]): Value {
  const all = mergeOf(values);
  const [first] = values;
  const key = commonType(
    catalog,
    values.map((v) => v.type?.key),
  );
  if (!first || key === undefined) return calculated(all, undefined);
  const sameRow = first.type?.fields && values.every((v) => v.type?.fields === first.type?.fields);
  if (sameRow) return calculated(all, first.type);
  const types = values.map((v) => v.type);
  return calculated(all, typeOfKey(key, commonModifier(key, types)));
}

/** What all types of one kind were told, `(6,1)`; nothing where they differ. */
export function commonModifier(key: string, types: readonly (SqlType | undefined)[]): string {
  const [first] = types;
  return first && types.every((t) => t?.key === key && t.mod === first.mod) ? first.mod : '';
}

/** A quoted constant that nothing has given a type is text. */
export const withoutUnknown = <T extends Value>(value: T): T =>
  value.type?.key === UNKNOWN ? { ...value, type: typeOfKey('text') } : value;
