import { loadModule, parseSync, hasSqlDetails, type Node } from 'libpg-query';
import { byteToCharacter, type Range } from './positions.js';
import { nextToken } from './tokens.js';

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

let loading: Promise<void> | undefined;

/** Loads the parser once; to be awaited before the first `parseSql`. */
export function loadParser(): Promise<void> {
  return (loading ??= loadModule());
}

/** Parses a text of SQL statements. A syntax error is a value, with the place of the offending word. */
export function parseSql(text: string): ParsedText {
  const at = (location: number | undefined) => toCharacter(location ?? 0);
  let convert: ((offset: number) => number) | undefined;
  const toCharacter = (offset: number) => (convert ??= byteToCharacter(text))(offset);
  if (nextToken(text, 0) === undefined) return { text, statements: [], at };
  try {
    const statements = (parseSync(text).stmts ?? []).map((raw): Statement => {
      const from = at(raw.stmt_location);
      const start = nextToken(text, from)?.start ?? from;
      const end = raw.stmt_len ? at((raw.stmt_location ?? 0) + raw.stmt_len) : text.trimEnd().length;
      return { node: raw.stmt!, start, end };
    });
    return { text, statements, at };
  } catch (error) {
    if (!hasSqlDetails(error)) throw error;
    const offset = Math.min(Math.max(0, error.sqlDetails?.cursorPosition ?? 0), text.length);
    const token = nextToken(text, offset);
    const range = token ? { start: token.start, end: token.end } : { start: text.length, end: text.length };
    return { text, statements: [], at, error: { message: error.sqlDetails?.message ?? error.message, range } };
  }
}
