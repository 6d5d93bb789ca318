import { nextToken } from './tokens.js';

/** The word that a statement begins with, in lower case; comments before it do not count. */
export const leadingWord = (sql: string): string | undefined => nextToken(sql, 0)?.text.toLowerCase();

/**
 * Puts other words where a statement begins.
 * @param words what it begins with; a list is a run of words of which each may be missing
 * @returns the statement as it is, where it begins with another word
 */
export function withLeadingWords(sql: string, words: readonly [string, readonly string[]], insert: string): string {
  const [first, others] = words;
  const begin = nextToken(sql, 0);
  if (begin?.text.toLowerCase() !== first) return sql;
  let end = begin.end;
  for (const word of others) {
    const next = nextToken(sql, end);
    if (next?.text.toLowerCase() === word) end = next.end;
  }
  return sql.slice(0, begin.start) + insert + sql.slice(end);
}

/** A statement without the semicolon that ends it, and what is behind that. */
export function withoutSemicolon(sql: string): string {
  let last = nextToken(sql, 0);
  let end = last?.end ?? 0;
  for (let token = last; token; token = nextToken(sql, token.end)) [last, end] = [token, token.end];
  return last?.text === ';' ? sql.slice(0, last.start).trimEnd() : sql.slice(0, Math.max(end, 0));
}
