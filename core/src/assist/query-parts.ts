import type { Definition, IndexedFile, Project } from '../model/project.js';
import { constraintRange } from '../index/contract.js';
import { commonTables, Words } from '../sql/blocks.js';
import type { Range } from '../sql/positions.js';
import { compileCondition, compileText, type Names } from '../compile/compile.js';
import { definitionQuery, previewQuery } from '../keys/definition-query.js';
import { wrapped } from '../sql/edits.js';
import { settingsOf, withEach } from '../model/settings.js';

/** A part of a query, where its author wrote it, and the parts that it is made of. */
export interface QueryPart extends Range {
  /**
   * A query that works the part out for all rows. The clauses around the part are left out but for its FROM, WHERE and
   * GROUP BY; some parts cannot be run so: their query is wrong.
   * @param standIns queries that stand for rows of tables
   */
  readonly sql: (standIns?: Names['standIns']) => string;
  readonly parts: readonly QueryPart[];
}

/** What has a query: a definition, a file of checks or an ad hoc query. */
export type Queried = Pick<Definition, 'path' | 'query' | 'contract' | 'each'>;

/** The tables that a query names. */
export const readsOf = ({ query }: Queried): string[] => [
  ...new Set((query?.tables ?? []).map((t) => `${t.layer ?? ''}.${t.name}`)),
];

const SET_OPERATIONS = new Set(['union', 'intersect', 'except']);
/** Clauses behind the groups. */
const TAIL = new Set(['order', 'limit', 'offset', 'fetch', 'for']);

/**
 * The parts of a query in the order in which they are worked out: common table expressions, then the
 * query itself; of a select its FROM, WHERE and GROUP BY, then what it returns.
 * @param names views without a place are put in as common table expressions
 */
export function queryParts(project: Project, of: Queried, names: Names): QueryPart[] {
  return new PartReader(project, of, names).parts();
}

/** The conditions that a definition's contract has for rows, as they hold or fail over what its query returns. */
export function conditionParts(project: Project, table: Definition, names: Names): QueryPart[] {
  const { text } = project.files.get(table.path)!;
  return (table.contract?.constraints ?? []).flatMap(({ expression, start }) => {
    if (expression === undefined) return [];
    const sql = (standIns?: Names['standIns']) => {
      const all = { ...names, settings: names.settings ?? settingsOf(project), ...(standIns && { standIns }) };
      const rows = wrapped(
        `select count(*) from (\n`,
        definitionQuery(project, table, all),
        `\n) as q where not (${compileCondition(expression, all)})`,
      );
      return previewQuery(project, rows, readsOf(table), all).text;
    };
    return [{ ...constraintRange(text, start), sql, parts: [] }];
  });
}

class PartReader {
  private readonly file: IndexedFile;
  private readonly words: Words;

  constructor(
    private readonly project: Project,
    private readonly of: Queried,
    private readonly names: Names,
  ) {
    this.file = project.files.get(of.path)!;
    this.words = Words.of(this.file.text, of.query!);
  }

  parts(): QueryPart[] {
    const { words } = this;
    const ctes = words.word(0) === 'with' ? commonTables(words, 0) : [];
    /** All up to a common table expression, it included. */
    const upTo = (i: number): Range[] => (i < 0 ? [] : [words.range(0, ctes[i]!.close + 1)]);
    const main = (ctes.at(-1)?.close ?? -1) + 1;
    return [
      ...ctes.map(({ named, open, close }, i) =>
        this.part(
          words.range(open + 1, close),
          [...upTo(i), ` select count(q) from ${named.text} as q`],
          this.arms(open + 1, close, upTo(i - 1)),
        ),
      ),
      this.part(
        words.range(main, words.tokens.length),
        counted([], [this.of.query!]),
        this.arms(main, words.tokens.length, upTo(ctes.length - 1)),
      ),
    ];
  }

  private part(range: Range, pieces: readonly (Range | string)[], parts: readonly QueryPart[] = []): QueryPart {
    const { project, of, file } = this;
    const sql = (standIns?: Names['standIns']) => {
      const names = {
        ...this.names,
        settings: withEach(this.names.settings ?? settingsOf(project), of),
        ...(standIns && { standIns }),
      };
      const text = pieces
        .map((p) => (typeof p === 'string' ? p : compileText(file, p, of.query!, names).text))
        .join('');
      return previewQuery(project, { text, original: () => range.start }, readsOf(of), names).text;
    };
    return { start: range.start, end: range.end, sql, parts };
  }

  /** The selects of a query that are put together. @param before what has to stand before each of them */
  private arms(from: number, to: number, before: readonly Range[]): QueryPart[] {
    const { words } = this;
    const cuts = [...words.outside(from, to)].filter((i) => SET_OPERATIONS.has(words.word(i)));
    if (cuts.length === 0) return this.select(from, to, before);
    return [from - 1, ...cuts].map((cut, n) => {
      let start = cut + 1;
      if (n > 0 && ['all', 'distinct'].includes(words.word(start))) start++;
      const end = cuts[n] ?? to;
      return this.part(
        words.range(start, end),
        counted(before, [words.range(start, end)]),
        this.select(start, end, before),
      );
    });
  }

  /** What a select is made of. */
  private select(from: number, to: number, before: readonly Range[]): QueryPart[] {
    const { words } = this;
    if (words.word(from) === '(' && words.closing(from) === to - 1) return this.arms(from + 1, to - 1, before);
    if (words.word(from) !== 'select') return [];
    const outside = [...words.outside(from + 1, to)];
    const find = (is: (word: string) => boolean, after: number, otherwise: number) =>
      outside.find((i) => i >= after && is(words.word(i))) ?? otherwise;
    const tail = find((w) => TAIL.has(w), from, to);
    const source = outside.find((i) => words.word(i) === 'from' && words.word(i - 1) !== 'distinct') ?? tail;
    const groups = find((w) => w === 'group' || w === 'having', source, tail);
    const where = find((w) => w === 'where', source, groups);
    const piece = (a: number, b: number) => (a < b ? [words.range(a, b)] : []);
    const one = (a: number, b: number) =>
      a < b ? [this.part(words.range(a, b), counted(before, ['select 1 ', ...piece(source, b)]))] : [];
    const first = this.firstItem(from);
    const commas = outside.filter((i) => i >= first && i < source && words.word(i) === ',');
    const items = [first - 1, ...commas].flatMap((comma, n) => piece(comma + 1, commas[n] ?? source));
    return [
      ...one(source, where),
      ...one(where, groups),
      ...one(groups, tail),
      ...items.map((item) => this.part(item, counted(before, ['select ', item, ' ', ...piece(source, tail)]))),
    ];
  }

  /** What follows `select`, `all` and `distinct [on (...)]`. */
  private firstItem(select: number): number {
    const { words } = this;
    if (words.word(select + 1) === 'all') return select + 2;
    if (words.word(select + 1) !== 'distinct') return select + 1;
    return words.word(select + 2) === 'on' ? words.closing(select + 3) + 1 : select + 2;
  }
}

/** Counts whole rows, so that all of their values have to be worked out. */
const counted = (before: readonly Range[], query: readonly (Range | string)[]): (Range | string)[] => [
  ...before,
  ' select count(q) from (\n',
  ...query,
  '\n) as q',
];
