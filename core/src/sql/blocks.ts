import type { Range } from './positions.js';
import { nameOf, tokenize, type Token } from './tokens.js';

/** The tokens of a text, comments left out, and the brackets among them. */
export class Words {
  constructor(readonly tokens: readonly Token[]) {}

  static of(text: string, { start, end }: Range): Words {
    return new Words(tokenize(text, start, end).filter((t) => t.kind !== 'comment'));
  }

  /** A word in lower case, another token as it is; empty behind the last one. */
  word(i: number): string {
    const token = this.tokens[i];
    return token?.kind === 'word' ? token.text.toLowerCase() : (token?.text ?? '');
  }

  /** The bracket that closes the one at `open`; behind the last token where there is none. */
  closing(open: number): number {
    let depth = 0;
    for (let i = open; i < this.tokens.length; i++) {
      if (this.word(i) === '(') depth++;
      else if (this.word(i) === ')' && --depth === 0) return i;
    }
    return this.tokens.length;
  }

  /** The tokens from one to before another that stand in no brackets of their own. */
  *outside(from: number, to: number): Generator<number> {
    for (let i = from; i < to; i++) {
      yield i;
      if (this.word(i) === '(') i = this.closing(i);
    }
  }

  /** Where the tokens from one to before another stand. */
  range(from: number, to: number): Range {
    return { start: this.tokens[from]!.start, end: this.tokens[to - 1]!.end };
  }
}

/** A common table expression: its name, and the brackets around its query. */
export interface CommonTable {
  readonly name: string;
  readonly named: Token;
  readonly open: number;
  /** Behind the last token where the text ends before. */
  readonly close: number;
}

/** `name [(columns)] as [not] [materialized] (`, any number of them. @param at where `with` stands */
export function commonTables(words: Words, at: number): CommonTable[] {
  const found: CommonTable[] = [];
  for (let i = words.word(at + 1) === 'recursive' ? at + 2 : at + 1; ;) {
    const named = words.tokens[i];
    if (named?.kind !== 'word' && named?.kind !== 'quoted') return found;
    let open = i + 1;
    if (words.word(open) === '(') open = words.closing(open) + 1;
    if (words.word(open++) !== 'as') return found;
    while (['not', 'materialized'].includes(words.word(open))) open++;
    if (words.word(open) !== '(') return found;
    const close = words.closing(open);
    found.push({ name: nameOf(named), named, open, close });
    if (words.word(close + 1) !== ',') return found;
    i = close + 2;
  }
}
