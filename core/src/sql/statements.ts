import { parseSql, withoutMark, type ParsedText, type Statement, type SyntaxError } from './parser.js';
import { byteToCharacter, type Range } from './positions.js';
import { tokenize } from './tokens.js';

/** A text whose statements were read one by one: those that are sound, and what is wrong with the others. */
export interface ParsedFile extends ParsedText {
  readonly errors: readonly SyntaxError[];
  /** Statements that could not be read, in order. */
  readonly broken: readonly Range[];
}

/** Statements of one file that are told to be broken; what is behind the last is not read. */
const MOST_BROKEN = 20;

/**
 * Parses a text of SQL statements. Where one has a syntax error, the others are read nevertheless: semicolons part
 * them. The time is that of reading the text a few times over, whatever is in it.
 */
export function parseStatements(written: string): ParsedFile {
  const whole = parseSql(written);
  if (!whole.error) return { ...whole, errors: [], broken: [] };
  const text = withoutMark(written);
  const parts = partsOf(text);
  const toCharacter = byteToCharacter(text);
  const read: Statement[] = [];
  const [errors, broken]: [SyntaxError[], Range[]] = [[], []];
  let [from, error]: [number, SyntaxError | undefined] = [0, whole.error];
  while (error && broken.length < MOST_BROKEN) {
    const at = error.range.start;
    const faulty = parts.find((p) => p.end >= at && p.start >= from) ?? parts.findLast((p) => p.start >= from);
    if (!faulty) break;
    errors.push(error);
    broken.push(faulty);
    read.push(...statementsIn(text, from, faulty.start).statements);
    from = faulty.end;
    const rest = statementsIn(text, from, text.length);
    read.push(...rest.statements);
    error = rest.error;
  }
  return { text, statements: read, errors, broken, error: whole.error, at: (location) => toCharacter(location ?? 0) };
}

/** The stretches between semicolons that hold more than comments; each ends before its semicolon. */
function partsOf(text: string): Range[] {
  const parts: Range[] = [];
  let start: number | undefined;
  let end = 0;
  for (const token of tokenize(text)) {
    if (token.kind === 'comment') continue;
    if (token.text !== ';') {
      start ??= token.start;
      end = token.end;
    } else if (start !== undefined) {
      parts.push({ start, end: token.start });
      start = undefined;
    }
  }
  if (start !== undefined) parts.push({ start, end });
  return parts;
}

/** The statements between two places of a text, their locations those in the whole. @param from a beginning, or a semicolon */
function statementsIn(text: string, from: number, to: number): { statements: Statement[]; error?: SyntaxError } {
  const parsed = parseSql(text.slice(from, to));
  if (parsed.error) return { statements: [], error: { ...parsed.error, range: shifted(parsed.error.range, from) } };
  const bytes = from === 0 ? 0 : new TextEncoder().encode(text.slice(0, from)).length;
  for (const { node } of parsed.statements) if (bytes > 0) moveLocations(node, bytes);
  return { statements: parsed.statements.map((s) => ({ node: s.node, ...shifted(s, from) })) };
}

const shifted = ({ start, end }: Range, by: number): Range => ({ start: start + by, end: end + by });

/** Fields of the parser's tree that hold byte offsets. */
const LOCATIONS: ReadonlySet<string> = new Set([
  'location',
  'name_location',
  'list_start',
  'list_end',
  'rexpr_list_start',
  'rexpr_list_end',
]);

function moveLocations(root: object, bytes: number): void {
  const open: object[] = [root];
  for (let node = open.pop(); node; node = open.pop()) {
    for (const [key, value] of Object.entries(node)) {
      if (typeof value === 'object' && value !== null) open.push(value as object);
      else if (typeof value === 'number' && LOCATIONS.has(key)) (node as Record<string, number>)[key] = value + bytes;
    }
  }
}
