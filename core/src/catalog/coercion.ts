import type { CastContext, Catalog, CatalogType } from './catalog.js';

/** The type of a quoted constant before anything asks for one. */
export const UNKNOWN = 'unknown';
export const RECORD = 'record';

const STRONGER: Readonly<Record<CastContext, string>> = { i: 'i', a: 'ia', e: 'iae' };
const ANYTHING = new Set(['any', 'anyelement', 'anycompatible']);
const ARRAYS = new Set(['anyarray', 'anycompatiblearray']);
const RANGES = new Set(['anyrange', 'anycompatiblerange']);
const MULTIRANGES = new Set(['anymultirange', 'anycompatiblemultirange']);
const NO_ARRAYS = new Set(['anynonarray', 'anycompatiblenonarray']);

/** The type below a domain's. */
export function baseOf(catalog: Catalog, type: string): string {
  let key = type;
  for (let t = catalog.type(key); t?.kind === 'd' && t.base; t = catalog.type(key)) key = t.base;
  return key;
}

/** Whether values of a type are rows. */
export const isRow = (catalog: Catalog, type: string): boolean =>
  type === RECORD || catalog.type(baseOf(catalog, type))?.kind === 'c';

/** The type of an array's elements, also of a domain over arrays; undefined of what is none. */
export function elementOf(catalog: Catalog, type: string): string | undefined {
  const found = catalog.type(baseOf(catalog, type));
  return found && isList(found) ? found.element : undefined;
}

const isList = (type: CatalogType) => type.element !== undefined && (type.category === 'A' || type.key === '_record');

/** Lists of the catalogs that are read as arrays are, but are single values in arrays. */
const VECTORS = new Set(['int2vector', 'oidvector']);

/** Whether arrays of a type's values have the same type: an array of arrays has one more dimension. */
export const isArray = (type: CatalogType): boolean => isList(type) && !VECTORS.has(type.key);

/** Whether values of one type can be taken as another's in a context (PostgreSQL's `can_coerce_type`). */
export function canBecome(catalog: Catalog, from: string, to: string, context: CastContext = 'i'): boolean {
  if (from === to || from === UNKNOWN || ANYTHING.has(to)) return true;
  if (ARRAYS.has(to)) return elementOf(catalog, from) !== undefined || from === 'anyarray';
  if (NO_ARRAYS.has(to)) return elementOf(catalog, from) === undefined;
  if (to === 'anyenum') return catalog.type(baseOf(catalog, from))?.kind === 'e';
  if (RANGES.has(to)) return catalog.type(baseOf(catalog, from))?.kind === 'r';
  if (MULTIRANGES.has(to)) return catalog.type(baseOf(catalog, from))?.kind === 'm';
  if (to === RECORD && isRow(catalog, from)) return true;
  if (to === '_record' && isRow(catalog, elementOf(catalog, from) ?? '')) return true;
  if (from === RECORD && catalog.type(to)?.kind === 'c') return true;
  return hasPathway(catalog, baseOf(catalog, from), baseOf(catalog, to), context);
}

function hasPathway(catalog: Catalog, from: string, to: string, context: CastContext): boolean {
  if (from === to) return true;
  const cast = catalog.cast(from, to);
  if (cast !== undefined) return STRONGER[context].includes(cast);
  const [source, target] = [catalog.type(from), catalog.type(to)];
  if (!source || !target) return false;
  if (target.kind === 'r' || target.kind === 'm') return source.kind === 'r' && target.base === from && context !== 'i';
  if (isList(source) && isArray(target) && source.element && target.element)
    return canBecome(catalog, source.element, target.element, context);
  if (context === 'i') return false;
  if (context === 'a') return target.category === 'S';
  return source.category === 'S' || target.category === 'S';
}

/**
 * The one type of several, as a union, CASE, COALESCE or VALUES takes it (PostgreSQL's `select_common_type`).
 * @returns undefined where one is not known, or PostgreSQL would refuse
 */
export function commonType(catalog: Catalog, types: readonly (string | undefined)[]): string | undefined {
  const [first] = types;
  if (first === undefined || types.includes(undefined)) return undefined;
  if (first !== UNKNOWN && types.every((t) => t === first)) return first;
  let chosen = baseOf(catalog, first);
  for (const type of types.slice(1)) {
    const next = baseOf(catalog, type!);
    if (next === UNKNOWN || next === chosen) continue;
    if (chosen === UNKNOWN) {
      chosen = next;
      continue;
    }
    const [a, b] = [catalog.type(chosen), catalog.type(next)];
    if (!a || !b || a.category !== b.category) return undefined;
    if (!a.preferred && canBecome(catalog, chosen, next) && !canBecome(catalog, next, chosen)) chosen = next;
  }
  if (chosen === UNKNOWN) return 'text';
  return types.every((t) => canBecome(catalog, t!, chosen)) ? chosen : undefined;
}

const SIMPLE: ReadonlySet<string> = new Set([
  'anyelement',
  'anyarray',
  'anynonarray',
  'anyenum',
  'anyrange',
  'anymultirange',
]);
const COMPATIBLE: ReadonlySet<string> = new Set([
  'anycompatible',
  'anycompatiblearray',
  'anycompatiblenonarray',
  'anycompatiblerange',
  'anycompatiblemultirange',
]);

/** What the polymorphic types of a call stand for; undefined where that is not known, null where they contradict. */
export function polymorphic(
  catalog: Catalog,
  declared: readonly string[],
  actual: readonly string[],
): ((type: string) => string | undefined) | null {
  const element = simpleElement(catalog, declared, actual);
  if (element === null) return null;
  const compatible = compatibleElement(catalog, declared, actual);
  if (compatible === null) return null;
  return (type) => {
    if (!SIMPLE.has(type) && !COMPATIBLE.has(type)) return type;
    const known = SIMPLE.has(type) ? element : compatible;
    if (ARRAYS.has(type)) return known.array ?? (known.element && catalog.type(known.element)?.array);
    if (RANGES.has(type)) return known.range;
    if (MULTIRANGES.has(type))
      return known.multirange ?? (known.range && catalog.type(known.range)?.base?.split(',')[1]);
    return known.element;
  };
}

interface Standing {
  element?: string | undefined;
  array?: string | undefined;
  range?: string | undefined;
  multirange?: string | undefined;
}

/** Ranges, and the ranges of multiranges: their kind of values. */
const subtypeOf = (catalog: Catalog, range: string | undefined) =>
  range === undefined ? undefined : catalog.type(range)?.base?.split(',')[0];

function simpleElement(catalog: Catalog, declared: readonly string[], actual: readonly string[]): Standing | null {
  const found: Standing = {};
  for (const [i, type] of declared.entries()) {
    const given = actual[i];
    if (!SIMPLE.has(type) || given === undefined || given === UNKNOWN) continue;
    const slot = ARRAYS.has(type)
      ? 'array'
      : RANGES.has(type)
        ? 'range'
        : MULTIRANGES.has(type)
          ? 'multirange'
          : 'element';
    const value = slot === 'element' ? given : baseOf(catalog, given);
    if (found[slot] !== undefined && found[slot] !== value) return null;
    found[slot] = value;
  }
  if (found.multirange) {
    const range = catalog.type(found.multirange)?.base;
    if (found.range && range !== found.range) return null;
    found.range = range;
  }
  for (const inner of [found.array && elementOf(catalog, found.array), subtypeOf(catalog, found.range)]) {
    if (inner === undefined) continue;
    if (found.element !== undefined && found.element !== inner) return null;
    found.element = inner;
  }
  return found;
}

function compatibleElement(catalog: Catalog, declared: readonly string[], actual: readonly string[]): Standing | null {
  const found: Standing = {};
  const elements: string[] = [];
  let asked = false;
  for (const [i, type] of declared.entries()) {
    const given = actual[i];
    if (!COMPATIBLE.has(type) || given === undefined) continue;
    asked = true;
    if (given === UNKNOWN) continue;
    const base = baseOf(catalog, given);
    if (ARRAYS.has(type)) elements.push(elementOf(catalog, given) ?? base);
    else if (RANGES.has(type) || MULTIRANGES.has(type)) {
      const range = RANGES.has(type) ? base : catalog.type(base)?.base;
      if (found.range !== undefined && found.range !== range) return null;
      found.range = range;
    } else elements.push(given);
  }
  if (!asked) return found;
  const subtype = subtypeOf(catalog, found.range);
  if (subtype !== undefined) elements.push(subtype);
  const element = elements.length ? commonType(catalog, elements) : 'text';
  if (element === undefined || (subtype !== undefined && subtype !== element)) return null;
  return { ...found, element };
}
