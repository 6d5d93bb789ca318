import type { Catalog, CatalogFunction } from './catalog.js';
import { baseOf, canBecome, elementOf, isRow, polymorphic, UNKNOWN } from './coercion.js';

/**
 * Which function or operator a call means: PostgreSQL's own rules (chapter "Type Conversion": exact match, most exact
 * matches, preferred types, what the quoted constants are taken for).
 */
interface Candidate<T> {
  readonly args: readonly string[];
  readonly of: T;
}

/** A function as it was chosen, and the types of a call's result. */
export interface ChosenFunction {
  readonly function: CatalogFunction;
  /** Undefined where the arguments do not say what a polymorphic result stands for. */
  readonly result: string | undefined;
  readonly columns: readonly { readonly name: string; readonly type: string | undefined }[];
}

export interface CallArgument {
  /** Undefined where it is not known. */
  readonly type: string | undefined;
  readonly name?: string | undefined;
}

/** The call as it is written, with what is between its brackets. */
export interface Call {
  readonly name: string;
  readonly args: readonly CallArgument[];
  /** `variadic array` is written. */
  readonly variadic?: boolean;
}

/**
 * @returns the function that is called; undefined where there is none, several are as good, or a type is not known
 *   that several candidates ask for
 */
export function chooseFunction(catalog: Catalog, call: Call): ChosenFunction | undefined {
  const args = call.args.map((a) => (a.name === undefined ? a.type : `${a.name}=>${a.type}`));
  return catalog.remember(`${call.name}(${args.join(' ')})${call.variadic ? 'v' : ''}`, () =>
    readChoice(catalog, call),
  );
}

function readChoice(catalog: Catalog, call: Call): ChosenFunction | undefined {
  const functions = catalog.functions(call.name);
  const candidates = functions.flatMap((f): Candidate<CatalogFunction>[] => {
    const args = argumentsOf(catalog, f, call);
    return args ? [{ args, of: f }] : [];
  });
  const written = call.args.map((a) => a.type);
  if (written.includes(undefined)) return onlyResult(candidates);
  const types = written as string[];
  const exact = candidates.find((c) => c.args.every((t, i) => t === types[i]));
  const chosen = exact ?? choose(catalog, notVariadicFirst(candidates), types);
  return chosen && resultOf(catalog, chosen, types);
}

/** Where not all arguments are known: all candidates that there are give the same type. */
function onlyResult(candidates: readonly Candidate<CatalogFunction>[]): ChosenFunction | undefined {
  const [first] = candidates;
  if (!first || first.of.result.startsWith('any')) return undefined;
  return candidates.every((c) => c.of.result === first.of.result && c.of.kind === first.of.kind) &&
    first.of.columns.every(
      (c, i) =>
        !c.type.startsWith('any') &&
        candidates.every((o) => o.of.columns[i]?.name === c.name && o.of.columns[i]?.type === c.type),
    )
    ? { function: first.of, result: first.of.result, columns: first.of.columns }
    : undefined;
}

/** Of two that take the same, the one that is not variadic or needs no defaults. */
function notVariadicFirst(candidates: readonly Candidate<CatalogFunction>[]): readonly Candidate<CatalogFunction>[] {
  const best = new Map<string, Candidate<CatalogFunction>>();
  for (const candidate of candidates) {
    const key = candidate.args.join(' ');
    const other = best.get(key);
    if (!other || costOf(candidate.of) < costOf(other.of)) best.set(key, candidate);
  }
  return [...best.values()];
}
const costOf = (f: CatalogFunction) => (f.variadic ? 2 : 0) + (f.defaults ? 1 : 0);

/** The types that a function asks of each written argument; undefined where it does not take as many, or other names. */
function argumentsOf(catalog: Catalog, f: CatalogFunction, { args, variadic }: Call): readonly string[] | undefined {
  const firstNamed = args.findIndex((a) => a.name !== undefined);
  if (firstNamed >= 0) {
    const places = args.map((a, i) => (a.name === undefined ? i : f.argNames.indexOf(a.name)));
    if (places.some((p) => p < 0) || new Set(places).size < places.length) return undefined;
    const missing = f.args.flatMap((_, i) => (places.includes(i) ? [] : [i]));
    if (missing.some((i) => i < f.args.length - f.defaults)) return undefined;
    return places.map((p) => f.args[p]!);
  }
  if (args.length === f.args.length && (!f.variadic || variadic || f.kind === 'a')) {
    if (!f.variadic || variadic) return f.args;
  }
  if (f.variadic && !variadic && args.length >= f.args.length) {
    const element = elementOfVariadic(catalog, f.args.at(-1)!);
    const fixed = f.args.slice(0, -1);
    return [...fixed, ...Array.from({ length: args.length - fixed.length }, () => element)];
  }
  if (args.length < f.args.length && args.length >= f.args.length - f.defaults) return f.args.slice(0, args.length);
  return undefined;
}

const elementOfVariadic = (catalog: Catalog, type: string): string =>
  type === 'any'
    ? 'any'
    : type === 'anyarray'
      ? 'anyelement'
      : type === 'anycompatiblearray'
        ? 'anycompatible'
        : (elementOf(catalog, type) ?? type);

function resultOf(
  catalog: Catalog,
  { of, args }: Candidate<CatalogFunction>,
  types: readonly string[],
): ChosenFunction | undefined {
  const stands = polymorphic(catalog, args, types);
  if (!stands) return undefined;
  return {
    function: of,
    result: stands(of.result),
    columns: of.columns.map((c) => ({ name: c.name, type: stands(c.type) })),
  };
}

/** The types that an operator takes and gives. */
export interface ChosenOperator {
  readonly left?: string | undefined;
  readonly result: string | undefined;
}

/**
 * The operator that is meant; undefined where there is none, or a type is not known.
 * @param left null where it stands before its one operand
 */
export function chooseOperator(
  catalog: Catalog,
  name: string,
  left: string | undefined | null,
  right: string | undefined,
): ChosenOperator | undefined {
  return catalog.remember(`${left} ${name} ${right}`, () => readOperator(catalog, name, left, right));
}

function readOperator(
  catalog: Catalog,
  name: string,
  left: string | undefined | null,
  right: string | undefined,
): ChosenOperator | undefined {
  const operators = catalog.operators(name);
  const candidates = operators.flatMap((o) =>
    (left === null) === (o.left === undefined)
      ? [{ args: o.left === undefined ? [o.right] : [o.left, o.right], of: o }]
      : [],
  );
  if (left === undefined || right === undefined) {
    const [first] = candidates;
    return first && !first.of.result.startsWith('any') && candidates.every((c) => c.of.result === first.of.result)
      ? { result: first.of.result }
      : undefined;
  }
  const types = left === null ? [right] : [left, right];
  const chosen = exactOperator(catalog, candidates, types) ?? choose(catalog, candidates, types);
  return (
    chosen && {
      left: chosen.of.left,
      result: polymorphic(catalog, chosen.args, types)?.(chosen.of.result) ?? undefined,
    }
  );
}

/** An exact match, in which a quoted constant is taken for the other side's type and a domain for its base. */
function exactOperator<T>(
  catalog: Catalog,
  candidates: readonly Candidate<T>[],
  types: readonly string[],
): Candidate<T> | undefined {
  const known = types.find((t) => t !== UNKNOWN);
  if (known === undefined) return undefined;
  const taken = types.map((t) => (t === UNKNOWN ? known : t));
  const find = (wanted: readonly string[]) => candidates.find((c) => c.args.every((t, i) => t === wanted[i]));
  return find(taken) ?? (types.length > 1 ? find(taken.map((t) => baseOf(catalog, t))) : undefined);
}

function choose<T>(
  catalog: Catalog,
  candidates: readonly Candidate<T>[],
  types: readonly string[],
): Candidate<T> | undefined {
  const able = candidates.filter(
    (c) => types.every((t, i) => canBecome(catalog, t, c.args[i]!)) && polymorphic(catalog, c.args, types) !== null,
  );
  return able.length < 2 ? able[0] : bestOf(catalog, able, types);
}

/** PostgreSQL's `func_select_candidate`. */
function bestOf<T>(
  catalog: Catalog,
  able: readonly Candidate<T>[],
  types: readonly string[],
): Candidate<T> | undefined {
  const bases = types.map((t) => (t === UNKNOWN ? UNKNOWN : baseOf(catalog, t)));
  const categories = bases.map((t) => catalog.type(t)?.category);
  const isPreferred = (type: string, category: string | undefined) => {
    const found = catalog.type(type);
    return found !== undefined && found.preferred && found.category === category;
  };
  let left = mostOf(able, (c) => count(bases, (t, i) => t !== UNKNOWN && c.args[i] === t));
  if (left.length === 1) return left[0];
  left = mostOf(left, (c) =>
    count(bases, (t, i) => t !== UNKNOWN && (c.args[i] === t || isPreferred(c.args[i]!, categories[i]))),
  );
  if (left.length === 1) return left[0];
  if (!bases.includes(UNKNOWN)) return undefined;
  const wanted = bases.map((t, i) => (t === UNKNOWN ? categoryOf(catalog, left, i) : undefined));
  if (!wanted.includes(null)) {
    const fitting = left.filter((c) =>
      wanted.every((w, i) => {
        if (!w) return true;
        const type = catalog.type(c.args[i]!);
        return categoryOfArgument(catalog, c.args[i]!) === w.category && (!w.preferred || type?.preferred === true);
      }),
    );
    if (fitting.length) left = fitting;
    if (left.length === 1) return left[0];
  }
  const known = [...new Set(bases.filter((t) => t !== UNKNOWN))];
  if (known.length !== 1) return undefined;
  const same = left.filter(
    (c) =>
      c.args.every((t) => canBecome(catalog, known[0]!, t)) &&
      polymorphic(
        catalog,
        c.args,
        bases.map(() => known[0]!),
      ) !== null,
  );
  return same.length === 1 ? same[0] : undefined;
}

const categoryOfArgument = (catalog: Catalog, type: string) => catalog.type(type)?.category;

/** The category that a quoted constant is taken for; null where the candidates do not agree. */
function categoryOf<T>(
  catalog: Catalog,
  candidates: readonly Candidate<T>[],
  i: number,
): { readonly category: string | undefined; readonly preferred: boolean } | null {
  let category: string | undefined;
  let preferred = false;
  let conflict = false;
  for (const { args } of candidates) {
    const type = catalog.type(args[i]!);
    const isPreferred = type?.preferred === true;
    if (type?.category === 'S')
      return { category: 'S', preferred: isPreferred || preferredText(catalog, candidates, i) };
    if (category === undefined) {
      category = type?.category;
      preferred = isPreferred;
    } else if (category === type?.category) preferred ||= isPreferred;
    else conflict = true;
  }
  return conflict ? null : { category, preferred };
}

const preferredText = <T>(catalog: Catalog, candidates: readonly Candidate<T>[], i: number) =>
  candidates.some(({ args }) => catalog.type(args[i]!)?.category === 'S' && catalog.type(args[i]!)?.preferred);

const count = <T>(list: readonly T[], test: (item: T, i: number) => boolean): number =>
  list.reduce((n, item, i) => n + (test(item, i) ? 1 : 0), 0);

function mostOf<T>(list: readonly T[], score: (item: T) => number): readonly T[] {
  const scores = list.map(score);
  const best = Math.max(...scores);
  return list.filter((_, i) => scores[i] === best);
}

/** What `name(x)` gives where name is a type and x can be cast to it; undefined where it is none. */
export function castByCall(catalog: Catalog, call: Call): string | undefined {
  const [argument] = call.args;
  if (call.args.length !== 1 || argument!.name !== undefined || argument!.type === undefined) return undefined;
  if (isRow(catalog, argument!.type)) return undefined;
  const type = catalog.type(call.name);
  return type && type.kind !== 'p' && type.kind !== 'c' && canBecome(catalog, argument!.type, type.key, 'e')
    ? type.key
    : undefined;
}
