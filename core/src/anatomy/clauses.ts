import { commonTables, Words, type CommonTable } from '../sql/blocks.js';
import type { Range } from '../sql/positions.js';

/** A stretch of tokens, end exclusive. */
export interface Span {
  readonly from: number;
  readonly to: number;
}

/** A query by its tokens: what WITH names, its body, and what orders and cuts the whole. */
export interface QueryText extends Span {
  readonly ctes: readonly CommonTable[];
  /** From `with` to before the body; empty where there is none. */
  readonly with: Span;
  readonly body: BodyText;
  /** ORDER BY, LIMIT, OFFSET, FETCH; without what locks rows. */
  readonly tail: Span;
  readonly isCut: boolean;
}

export type BodyText = SelectText | SetText | BracketText | OtherText;

export interface SelectText extends Span {
  readonly kind: 'select';
  /** The columns, behind DISTINCT. */
  readonly targets: Span;
  readonly from_: Span | undefined;
  readonly where: Span | undefined;
  readonly group: Span | undefined;
  readonly having: Span | undefined;
  readonly window: Span | undefined;
}

/** UNION, INTERSECT or EXCEPT of two bodies. */
export interface SetText extends Span {
  readonly kind: 'set';
  readonly left: BodyText;
  readonly right: BodyText;
  readonly word: string;
  readonly isAll: boolean;
}

export interface BracketText extends Span {
  readonly kind: 'brackets';
  readonly inner: QueryText;
}

/** VALUES, TABLE, or what is not understood. */
export interface OtherText extends Span {
  readonly kind: 'other';
}

const SETS: Readonly<Record<string, number>> = { union: 1, except: 1, intersect: 2 };
const TAIL = new Set(['order', 'limit', 'offset', 'fetch', 'for']);
const CUTS = new Set(['limit', 'offset', 'fetch']);
const CLAUSES = ['from', 'where', 'group', 'having', 'window'] as const;

/** Reads tokens as the clauses of queries. All of its indexes are those of the tokens. */
export class Clauses {
  constructor(readonly words: Words) {}

  /** Tokens outside of brackets that can begin a clause: none behind `as` or a dot, which make a name of any word. */
  *heads(from: number, to: number): Generator<number> {
    for (const i of this.outside(from, to)) {
      if (this.words.tokens[i]!.kind !== 'word') continue;
      const before = i > from ? this.words.word(i - 1) : '';
      if (before === '.' || before === 'as') continue;
      if (this.words.word(i) === 'from' && before === 'distinct' && this.isOfCondition(i - 1, from)) continue;
      if (this.words.word(i) === 'group' && before === 'within') continue;
      yield i;
    }
  }

  /** Whether `distinct` is that of `is distinct from`. */
  private isOfCondition(distinct: number, from: number): boolean {
    const before = distinct - 1 >= from ? this.words.word(distinct - 1) : '';
    return before === 'is' || before === 'not';
  }

  /** The tokens that stand in no brackets, square ones and CASE … END included. */
  *outside(from: number, to: number): Generator<number> {
    for (let i = from; i < to; i++) {
      yield i;
      const word = this.words.word(i);
      if (word === '(' || word === '[' || (word === 'case' && this.isWord(i, from))) i = this.closing(i, to);
    }
  }

  private isWord(i: number, from: number): boolean {
    const before = i > from ? this.words.word(i - 1) : '';
    return this.words.tokens[i]!.kind === 'word' && before !== '.' && before !== 'as';
  }

  /** What closes the bracket or CASE at a place. */
  closing(open: number, to = this.words.tokens.length): number {
    let depth = 0;
    for (let i = open; i < to; i++) {
      const word = this.words.word(i);
      if (word === '(' || word === '[' || (word === 'case' && this.isWord(i, open))) depth++;
      else if (word === ')' || word === ']' || (word === 'end' && this.isWord(i, open))) depth--;
      if (depth === 0) return i;
    }
    return to;
  }

  range({ from, to }: Span): Range {
    return this.words.range(from, to);
  }

  query(from: number, to: number): QueryText {
    const ctes = this.words.word(from) === 'with' ? commonTables(this.words, from) : [];
    // SEARCH and CYCLE stand behind the brackets of a recursion.
    const main = ctes.length ? this.behindMarks(ctes.at(-1)!.close + 1, to) : from;
    const heads = [...this.heads(main, to)];
    const lock = heads.find((i) => i > main && this.words.word(i) === 'for') ?? to;
    const tailAt = heads.find((i) => i > main && TAIL.has(this.words.word(i))) ?? to;
    const isCut = heads.some((i) => i >= tailAt && CUTS.has(this.words.word(i)));
    return {
      from,
      to: lock,
      ctes,
      with: { from, to: main },
      body: this.body(main, tailAt),
      tail: { from: tailAt, to: Math.max(tailAt, lock) },
      isCut,
    };
  }

  private behindMarks(at: number, to: number): number {
    if (!['search', 'cycle'].includes(this.words.word(at))) return at;
    const body = [...this.heads(at, to)].find((i) => ['select', 'values', 'table'].includes(this.words.word(i)));
    return body ?? [...this.outside(at, to)].find((i) => this.words.word(i) === '(') ?? to;
  }

  /** @param sets where its parts are put together; of a part of it, they are known already */
  private body(from: number, to: number, sets = this.setsIn(from, to)): BodyText {
    const last = sets.findLast((i) => SETS[this.words.word(i)] === 1) ?? sets.at(-1);
    if (last !== undefined) {
      const at = sets.indexOf(last);
      const all = this.words.word(last + 1);
      return {
        kind: 'set',
        from,
        to,
        left: this.body(from, last, sets.slice(0, at)),
        right: this.body(all === 'all' || all === 'distinct' ? last + 2 : last + 1, to, sets.slice(at + 1)),
        word: this.words.word(last),
        isAll: all === 'all',
      };
    }
    if (this.words.word(from) === '(' && this.closing(from, to) === to - 1)
      return { kind: 'brackets', from, to, inner: this.query(from + 1, to - 1) };
    return this.words.word(from) === 'select' ? this.select(from, to) : { kind: 'other', from, to };
  }

  private setsIn(from: number, to: number): number[] {
    return [...this.heads(from, to)].filter((i) => i > from && SETS[this.words.word(i)] !== undefined);
  }

  private select(from: number, to: number): SelectText {
    const first = this.firstTarget(from);
    const heads = [...this.heads(first, to)];
    const found = new Map<string, number>();
    for (const name of CLAUSES) {
      const after = Math.max(first, ...[...found.values()].map((i) => i + 1));
      const at = heads.find((i) => i >= after && this.words.word(i) === name);
      if (at !== undefined) found.set(name, at);
    }
    const span = (name: string, words: number): Span | undefined => {
      const at = found.get(name);
      if (at === undefined) return undefined;
      return { from: at + words, to: [...found.values()].find((i) => i > at) ?? to };
    };
    return {
      kind: 'select',
      from,
      to,
      targets: { from: first, to: [...found.values()][0] ?? to },
      from_: span('from', 1),
      where: span('where', 1),
      group: span('group', 2),
      having: span('having', 1),
      window: span('window', 1),
    };
  }

  private firstTarget(select: number): number {
    const { words } = this;
    if (words.word(select + 1) === 'all') return select + 2;
    if (words.word(select + 1) !== 'distinct') return select + 1;
    return words.word(select + 2) === 'on' ? words.closing(select + 3) + 1 : select + 2;
  }

  /** The expressions of DISTINCT ON, inside of its brackets. */
  distinctOn(select: SelectText): Span | undefined {
    return this.words.word(select.from + 1) === 'distinct' && this.words.word(select.from + 2) === 'on'
      ? { from: select.from + 4, to: this.words.closing(select.from + 3) }
      : undefined;
  }

  /** The parts of a list, at its commas. */
  list({ from, to }: Span): Span[] {
    return this.split({ from, to }, (i) => this.words.word(i) === ',');
  }

  /** The conditions that a condition's AND joins; one in brackets is one. */
  conjuncts({ from, to }: Span): Span[] {
    let between = false;
    return this.split({ from, to }, (i) => {
      if (this.words.tokens[i]!.kind !== 'word' || this.words.word(i - 1) === '.') return false;
      if (this.words.word(i) === 'between') between = true;
      if (this.words.word(i) !== 'and') return false;
      const isOfBetween = between;
      between = false;
      return !isOfBetween;
    });
  }

  split({ from, to }: Span, isCut: (i: number) => boolean): Span[] {
    const cuts = [...this.outside(from, to)].filter((i) => isCut(i));
    return [from - 1, ...cuts].map((cut, n) => ({ from: cut + 1, to: cuts[n] ?? to }));
  }

  /** The one token of a kind outside of brackets, where it is the only one. */
  only({ from, to }: Span, word: string): number | undefined {
    const found = [...this.outside(from, to)].filter((i) => this.words.word(i) === word);
    return found.length === 1 ? found[0] : undefined;
  }
}
