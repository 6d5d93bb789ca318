import { CASTS, FUNCTIONS, OPERATORS, TYPES } from './postgresql.js';

/**
 * PostgreSQL's types, casts, operators and functions, read from lines that a script writes of a server's catalogs.
 * A type's key is its name in `pg_catalog` (`int4`, `_text`), `schema.name` elsewhere.
 *
 * The lines, parts apart by one space, `-` for none:
 * - type: key, category (`!` if preferred), kind, type of its elements, type of its arrays, what it is made from (base
 *   type of a domain, `subtype,multirange` of a range, range of a multirange), modifier of a domain
 * - cast: source, target, context (`i`mplicit, `a`ssignment, `e`xplicit), method
 * - operator: name, left type, right type, result
 * - function: name, kind with `*` if it returns a set, `v` if variadic and its number of defaults, arguments
 *   (`type:name`), result, output columns (`name:type`)
 */
export interface CatalogLines {
  readonly types: string;
  readonly casts: string;
  readonly operators: string;
  readonly functions: string;
}

/** b(ase), d(omain), e(num), r(ange), m(ultirange), p(seudo), c(omposite). */
export type TypeKind = 'b' | 'd' | 'e' | 'r' | 'm' | 'p' | 'c';

export interface CatalogType {
  readonly key: string;
  /** `N` numbers, `S` texts, `D` dates and times, … */
  readonly category: string;
  readonly preferred: boolean;
  readonly kind: TypeKind;
  readonly element: string | undefined;
  readonly array: string | undefined;
  readonly base: string | undefined;
  /** Of a domain: the modifier of its base type, `(6,1)`. */
  readonly modifier: string;
}

export interface CatalogFunction {
  readonly name: string;
  /** f(unction), a(ggregate), w(indow function). */
  readonly kind: 'f' | 'a' | 'w';
  readonly returnsSet: boolean;
  readonly variadic: boolean;
  readonly defaults: number;
  readonly args: readonly string[];
  readonly argNames: readonly (string | undefined)[];
  readonly result: string;
  readonly columns: readonly { readonly name: string; readonly type: string }[];
}

export interface CatalogOperator {
  readonly left: string | undefined;
  readonly right: string;
  readonly result: string;
}

/** How one type becomes another: by itself, when it is stored, or when a cast is written. */
export type CastContext = 'i' | 'a' | 'e';

const orNone = (part: string | undefined) => (part === '-' || part === undefined ? undefined : part);
const linesOf = (text: string) => text.split('\n').filter((line) => line !== '');

/** Calls are remembered up to here; names of calls are what people write. */
const MOST_ANSWERS = 20_000;
/** Longer ones are not kept: nobody writes them twice. */
const LONGEST_QUESTION = 500;

export class Catalog {
  private readonly answers = new Map<string, unknown>();
  private readonly types = new Map<string, CatalogType>();
  private readonly casts = new Map<string, CastContext>();
  private readonly operatorLines = new Map<string, (string | CatalogOperator)[]>();
  private readonly functionLines = new Map<string, (string | CatalogFunction)[]>();

  /** @param layers what is added to what is before it; schemas in whose names are looked up without a schema, first first */
  constructor(
    layers: readonly CatalogLines[],
    private readonly path: readonly string[] = [],
  ) {
    for (const lines of layers) {
      for (const line of linesOf(lines.types)) {
        const [key, category, kind, element, array, base, ...modifier] = line.split(' ');
        this.types.set(key!, {
          key: key!,
          category: category![0]!,
          preferred: category!.length > 1,
          kind: kind as TypeKind,
          element: orNone(element),
          array: orNone(array),
          base: orNone(base),
          modifier: modifier.join(' '),
        });
      }
      for (const line of linesOf(lines.casts)) {
        const [source, target, context] = line.split(' ');
        this.casts.set(`${source} ${target}`, context as CastContext);
      }
      file(this.operatorLines, lines.operators);
      file(this.functionLines, lines.functions);
    }
  }

  /** A type by its key, or by its name in one of the schemas that are looked into. */
  type(name: string): CatalogType | undefined {
    return this.types.get(name) ?? this.inPath(name, (key) => this.types.get(key));
  }

  /** The context in which a declared cast applies; undefined without one. */
  cast(source: string, target: string): CastContext | undefined {
    return this.casts.get(`${source} ${target}`);
  }

  operators(name: string): readonly CatalogOperator[] {
    return parsed(this.operatorLines.get(name), readOperator);
  }

  /** The functions of a name, with or without its schema. */
  functions(name: string): readonly CatalogFunction[] {
    return [
      ...parsed(this.functionLines.get(name), readFunction),
      ...this.path.flatMap((schema) => parsed(this.functionLines.get(`${schema}.${name}`), readFunction)),
    ];
  }

  /** What was chosen once for a call or an operator: projects write the same ones thousands of times. */
  remember<T>(question: string, answer: () => T): T {
    if (question.length > LONGEST_QUESTION) return answer();
    if (this.answers.has(question)) return this.answers.get(question) as T;
    const found = answer();
    if (this.answers.size >= MOST_ANSWERS) this.answers.clear();
    this.answers.set(question, found);
    return found;
  }

  private inPath<T>(name: string, find: (key: string) => T | undefined): T | undefined {
    for (const schema of this.path) {
      const found = find(`${schema}.${name}`);
      if (found !== undefined) return found;
    }
    return undefined;
  }
}

/** Lines by their first word; what one says is read when it is asked for. */
function file(into: Map<string, unknown[]>, text: string): void {
  for (const line of linesOf(text)) {
    const name = line.slice(0, line.indexOf(' '));
    const list = into.get(name);
    if (list) list.push(line);
    else into.set(name, [line]);
  }
}

function parsed<T extends object>(list: (string | T)[] | undefined, read: (line: string) => T): readonly T[] {
  if (!list) return [];
  for (const [i, line] of list.entries()) if (typeof line === 'string') list[i] = read(line);
  return list as T[];
}

function readOperator(line: string): CatalogOperator {
  const [, left, right, result] = line.split(' ');
  return { left: orNone(left), right: right!, result: result! };
}

function readFunction(line: string): CatalogFunction {
  const [name, flags, args, result, columns] = line.split(' ');
  const given = orNone(args)
    ?.split(',')
    .map((arg) => arg.split(':'));
  return {
    name: name!,
    kind: flags![0] as CatalogFunction['kind'],
    returnsSet: flags!.includes('*'),
    variadic: flags!.includes('v'),
    defaults: Number(/\d+$/.exec(flags!)?.[0] ?? 0),
    args: given?.map(([type]) => type!) ?? [],
    argNames: given?.map(([, argName]) => argName) ?? [],
    result: result!,
    columns:
      columns?.split(',').map((column, i) => {
        const [columnName, type] = column.split(':');
        return { name: columnName || `column${i + 1}`, type: type! };
      }) ?? [],
  };
}

export const POSTGRESQL: CatalogLines = {
  types: TYPES,
  casts: CASTS,
  operators: OPERATORS,
  functions: FUNCTIONS,
};

let known: Catalog | undefined;
/** What every PostgreSQL 15 has, read once. */
export const postgresql = (): Catalog => (known ??= new Catalog([POSTGRESQL]));
