import type { Range } from './positions.js';
import { tokenize, type Token } from './tokens.js';

/** Words that end an expression of a list of columns, outside of brackets. */
const ENDS = new Set([
  'from',
  'where',
  'group',
  'having',
  'window',
  'union',
  'intersect',
  'except',
  'order',
  'limit',
  'offset',
  'fetch',
  'for',
  'into',
  'as',
]);
const OPENS = new Set(['(', '[']);
const CLOSES = new Set([')', ']']);
/** Words behind which a word ends nothing: `is distinct from`, `within group`. */
const BELONGS: Readonly<Record<string, string>> = { from: 'distinct', group: 'within' };

/**
 * Where an expression of a list of columns ends that begins at a place: before its name, the next one, or the next
 * clause. @param name the name that it has, which may follow without `as`
 */
export function expressionRange(text: string, start: number, name: string): Range {
  let depth = 0;
  let last: Token | undefined;
  let before: Token | undefined;
  for (const token of tokenize(text, start)) {
    if (token.kind === 'comment') continue;
    const word = token.kind === 'word' ? token.text.toLowerCase() : token.text;
    if (CLOSES.has(word) && depth-- === 0) break;
    if (OPENS.has(word)) depth++;
    if (depth === 0 && (word === ',' || word === ';')) break;
    const isEnd = depth === 0 && token.kind === 'word' && ENDS.has(word);
    if (isEnd && !(BELONGS[word] !== undefined && last?.text.toLowerCase() === BELONGS[word])) break;
    before = last;
    last = token;
  }
  // `sum(x) total` has its name without `as`; `x.total` is the expression.
  const isName = last && before && last.text === name && canEnd(before);
  return { start, end: (isName ? before : last)?.end ?? start };
}

/** Whether an expression can end with a token, so that a word behind it is a name. */
const canEnd = (token: Token): boolean => token.kind !== 'operator' || CLOSES.has(token.text);
