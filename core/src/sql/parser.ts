import { loadModule, parseSync, hasSqlDetails, type Node } from 'libpg-query';
import { byteToCharacter, type Range } from './positions.js';
import { nextToken, tokenize } from './tokens.js';

/**
 * The seam to the parser: PostgreSQL's own grammar, compiled to WebAssembly. Nothing else in core
 * imports it, apart from its types.
 */

/** One statement of a text; its range starts at its first token and ends before the semicolon. */
export interface Statement extends Range {
  readonly node: Node;
}

export interface SyntaxError {
  readonly message: string;
  readonly range: Range;
}

export interface ParsedText {
  readonly text: string;
  /** Empty when the text has a syntax error. */
  readonly statements: readonly Statement[];
  readonly error?: SyntaxError;
  /** The character offset of a parser location (bytes); a missing location is 0, as the parser leaves zeros out. */
  readonly at: (location: number | undefined) => number;
}

/**
 * Nodes below each other in a statement's tree, fields included: a chain of 500 operators, 200 queries in each other.
 * Trees are walked by functions that call themselves; measured, these take about four times as much on Node's stack.
 */
export const DEEPEST = 1000;
const TOO_DEEP = `the statement is nested too deep, ${DEEPEST} levels being the most: move parts of it into separate definitions`;
/** Nodes of a statement's tree, fields included: a list of 100,000 values. What has more holds up whoever asks meanwhile. */
const MOST_NODES = 300_000;
const TOO_MANY =
  'the statement has too many parts: move lists of values to a reference table, or parts of it into separate definitions';
const NOT_PARSED = 'the statement is too large to be read: move parts of it into separate definitions';

/** As PostgreSQL has it. Longer runs, of + and - above all, take its scanner a time that grows with their square. */
const LONGEST_OPERATOR = 63;
const LONG_RUN = new RegExp(`[-+*/<>=~!@#%^&|\`?]{${LONGEST_OPERATOR + 1}}`);

/** Where an operator stands that is longer than one can be. */
function endlessOperator(text: string): Range | undefined {
  // Nearly every text that has such a run has it in a comment.
  return LONG_RUN.test(text)
    ? tokenize(text).find((t) => t.kind === 'operator' && t.end - t.start > LONGEST_OPERATOR)
    : undefined;
}

/** Why a tree is not read: it is too deep or has too many nodes. It is walked without recursion, and no further than that. */
function tooLarge(root: unknown): string | undefined {
  let level: unknown[] = [root];
  let nodes = 0;
  for (let depth = 0; ; depth++) {
    const below: unknown[] = [];
    for (const node of level) {
      for (const key in node as object) {
        const value = (node as Record<string, unknown>)[key];
        if (typeof value === 'object' && value !== null) below.push(value);
      }
    }
    if (depth > DEEPEST) return TOO_DEEP;
    if (below.length === 0) return undefined;
    nodes += below.length;
    if (nodes > MOST_NODES) return TOO_MANY;
    level = below;
  }
}

let loading: Promise<void> | undefined;

/** Loads the parser once; to be awaited before the first `parseSql`. */
export function loadParser(): Promise<void> {
  return (loading ??= loadModule());
}

/** Parses a text of SQL statements. A syntax error is a value, with the place of the offending word. */
export function parseSql(written: string): ParsedText {
  const text = withoutMark(written);
  const at = (location: number | undefined) => toCharacter(location ?? 0);
  let convert: ((offset: number) => number) | undefined;
  const toCharacter = (offset: number) => (convert ??= byteToCharacter(text))(offset);
  if (nextToken(text, 0) === undefined) return { text, statements: [], at };
  const unreadable = unreadableCharacter(text);
  if (unreadable) return { text, statements: [], at, error: unreadable };
  try {
    const parsed = parseSync(text).stmts ?? [];
    // Shorter texts have no such trees.
    for (const raw of text.length > DEEPEST ? parsed : []) {
      const message = tooLarge(raw.stmt);
      if (message === undefined) continue;
      const start = nextToken(text, at(raw.stmt_location))?.start ?? 0;
      return {
        text,
        statements: [],
        at,
        error: { message, range: { start, end: nextToken(text, start)?.end ?? start } },
      };
    }
    const statements = parsed.map((raw): Statement => {
      const from = at(raw.stmt_location);
      const start = nextToken(text, from)?.start ?? from;
      const end = raw.stmt_len ? at((raw.stmt_location ?? 0) + raw.stmt_len) : text.trimEnd().length;
      return { node: raw.stmt!, start, end };
    });
    return { text, statements, at };
  } catch (error) {
    if (!hasSqlDetails(error))
      return {
        text,
        statements: [],
        at,
        error: { message: NOT_PARSED, range: { start: 0, end: nextToken(text, 0)?.end ?? 0 } },
      };
    // Of a comment that is not closed, all of it is what the error is near.
    const message = (error.sqlDetails?.message ?? error.message).replace(
      /(unterminated \/\* comment) at or near [\s\S]*/,
      '$1',
    );
    const offset = Math.min(Math.max(0, unitsOf(text, error.sqlDetails?.cursorPosition ?? 0)), text.length);
    const token = /unterminated \/\* comment/.test(message) ? openComment(text) : nextToken(text, offset);
    const range = token ? { start: token.start, end: token.end } : { start: text.length, end: text.length };
    return { text, statements: [], at, error: { message, range } };
  }
}

/** A mark of the byte order at the beginning is no part of a text; a space in its place moves nothing. */
export const withoutMark = (text: string): string => (text.charCodeAt(0) === 0xfeff ? ` ${text.slice(1)}` : text);

/** Spaces that PostgreSQL takes for letters. */
const ODD_SPACE = /[\u00a0\u1680\u2000-\u200b\u202f\u205f\u3000\ufeff]/;

/** What the grammar cannot be asked about: a NUL, which ends its text, a space that is a letter to it, an endless operator. */
function unreadableCharacter(text: string): SyntaxError | undefined {
  const nul = text.indexOf('\0');
  if (nul >= 0)
    return {
      message: 'there is a NUL character here, which no text can contain: remove it',
      range: { start: nul, end: nul + 1 },
    };
  if (ODD_SPACE.test(text)) {
    const word = tokenize(text).find((t) => t.kind === 'word' && ODD_SPACE.test(t.text));
    const start = word && word.start + word.text.search(ODD_SPACE);
    if (start !== undefined)
      return {
        message:
          'there is a no-break or other special space here, which PostgreSQL reads as a letter: write a plain space',
        range: { start, end: start + 1 },
      };
  }
  const operator = endlessOperator(text);
  return operator && { message: `an operator has ${LONGEST_OPERATOR} characters at most`, range: operator };
}

/** The offset of a place that the parser counts in characters, of which some are two units of a text here. */
function unitsOf(text: string, characters: number): number {
  if (!/[\ud800-\udbff]/.test(text)) return characters;
  let units = 0;
  for (let n = 0; n < characters && units < text.length; n++) units += text.codePointAt(units)! > 0xffff ? 2 : 1;
  return units;
}

/** Where a comment begins that is never closed. */
function openComment(text: string): Range | undefined {
  const last = tokenize(text).findLast((t) => t.kind === 'comment' && t.text.startsWith('/*'));
  return last && { start: last.start, end: last.start + 2 };
}
