import type { Range } from '../sql/positions.js';
import { tokenize, type Token } from '../sql/tokens.js';

/** Words that end a column's type in `CREATE TABLE`. */
const AFTER_TYPE = new Set([
  'options',
  'not',
  'null',
  'constraint',
  'default',
  'references',
  'check',
  'unique',
  'primary',
  'collate',
  'generated',
]);

/** The elements of the first parenthesised list of a statement: columns and constraints, without their commas. */
export function elementsOf(text: string, statement: Range): Range[] {
  const elements: Range[] = [];
  let depth = 0;
  let open: { start: number; end: number } | undefined;
  for (const token of tokenize(text, statement.start, statement.end)) {
    if (token.kind === 'comment') continue;
    if (token.text === ')') depth--;
    if (depth === 0 && token.text === ')') return open ? [...elements, open] : elements;
    if (depth === 1 && token.text === ',') {
      if (open) elements.push(open);
      open = undefined;
    } else if (depth >= 1) open = { start: open?.start ?? token.start, end: token.end };
    if (token.text === '(') depth++;
  }
  return elements;
}

/** The range of a column's type, from its element. */
export function typeRange(text: string, element: Range): Range | undefined {
  const [, ...rest] = tokenize(text, element.start, element.end).filter((t) => t.kind !== 'comment');
  const type: Token[] = [];
  let depth = 0;
  for (const token of rest) {
    if (depth === 0 && token.kind === 'word' && AFTER_TYPE.has(token.text.toLowerCase())) break;
    if (token.text === '(') depth++;
    if (token.text === ')') depth--;
    type.push(token);
  }
  return type.length ? { start: type[0]!.start, end: type.at(-1)!.end } : undefined;
}

/** The ranges that take elements out of their list, each with the commas that it leaves without use. */
export function removalsOf(elements: readonly Range[], gone: (index: number) => boolean): Range[] {
  const removals: Range[] = [];
  for (let i = 0; i < elements.length; i++) {
    if (!gone(i)) continue;
    let last = i;
    while (last + 1 < elements.length && gone(last + 1)) last++;
    const [before, next] = [elements[i - 1], elements[last + 1]];
    if (next) removals.push({ start: elements[i]!.start, end: next.start });
    else removals.push({ start: before?.end ?? elements[i]!.start, end: elements[last]!.end });
    i = last;
  }
  return removals;
}
