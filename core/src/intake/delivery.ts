import { familyOf } from '../sql/types.js';
import { valueProblem } from '../language/value-problem.js';
import type { Project, SourceTable } from '../model/project.js';

/** Files that are delivered: which table one is for, and whether its values are what the table declares. */

/** A part of a file's name that becomes a column: `{as_of:date}`. */
const PART = /\{([a-z_][a-z0-9_]*)(?::(date|integer|text))?\}/g;

/**
 * The values that a file's name gives, by column; undefined where the name does not match.
 * Dates may be written with or without dashes, and are returned with them.
 */
export function matchFileName(pattern: string, name: string): Map<string, string> | undefined {
  const pieces = piecesOf(pattern);
  const found = matched(pieces, name);
  if (!found) return undefined;
  const values = new Map<string, string>();
  for (const [i, piece] of pieces.entries()) {
    if (piece.kind !== 'part') continue;
    const value = found.get(i)!;
    const given = piece.type === 'date' ? value.replace(/^(\d{4})-?(\d{2})-?(\d{2})$/, '$1-$2-$3') : value;
    if (piece.type === 'date' && valueProblem('date', given) !== undefined) return undefined;
    values.set(piece.column, given);
  }
  return values;
}

/** A piece of a pattern: a text that stands for itself, `*` for anything, or a part that becomes a column. */
type Piece =
  | { readonly kind: 'text'; readonly text: string }
  | { readonly kind: 'anything' }
  | { readonly kind: 'part'; readonly column: string; readonly type: 'date' | 'integer' | 'text' };

function piecesOf(pattern: string): Piece[] {
  const pieces: Piece[] = [];
  const plain = (text: string) => {
    for (const [i, piece] of text.split(/\*+/).entries()) {
      if (i > 0) pieces.push({ kind: 'anything' });
      if (piece !== '') pieces.push({ kind: 'text', text: piece });
    }
  };
  let at = 0;
  for (const part of pattern.matchAll(PART)) {
    plain(pattern.slice(at, part.index));
    pieces.push({ kind: 'part', column: part[1]!, type: (part[2] ?? 'text') as 'date' | 'integer' | 'text' });
    at = part.index + part[0].length;
  }
  plain(pattern.slice(at));
  return pieces;
}

/** Where a piece that begins at a place may end, the likeliest first: dates and `*` take much, texts little. */
function* endsOf(piece: Piece, name: string, at: number): Generator<number> {
  switch (piece.kind) {
    case 'text':
      if (name.startsWith(piece.text, at)) yield at + piece.text.length;
      break;
    case 'anything':
      for (let end = name.length; end >= at; end--) yield end;
      break;
    case 'part': {
      const digits = /^\d+/.exec(name.slice(at))?.[0].length ?? 0;
      if (piece.type === 'integer') for (let end = at + digits; end > at; end--) yield end;
      else if (piece.type === 'text') for (let end = at + 1; end <= name.length; end++) yield end;
      else {
        const date = /^\d{4}-?\d{2}-?\d{2}/.exec(name.slice(at))?.[0];
        if (date !== undefined) yield at + date.length;
      }
    }
  }
}

/**
 * What each piece takes of a name, by the piece's number; undefined where the name does not match. Each piece is
 * tried at each place once: the time grows with both lengths, and not with the ways in which stars can share a name.
 */
function matched(pieces: readonly Piece[], name: string): Map<number, string> | undefined {
  const failed = new Set<number>();
  const taken = new Map<number, string>();
  const from = (i: number, at: number): boolean => {
    if (i === pieces.length) return at === name.length;
    const place = i * (name.length + 1) + at;
    if (failed.has(place)) return false;
    for (const end of endsOf(pieces[i]!, name, at)) {
      if (!from(i + 1, end)) continue;
      taken.set(i, name.slice(at, end));
      return true;
    }
    failed.add(place);
    return false;
  };
  return pieces.length <= MOST_PIECES && from(0, 0) ? taken : undefined;
}

/** Pieces of a pattern; more are no pattern. */
const MOST_PIECES = 100;

export const DELIVERY_FORMATS = ['csv', 'jsonl', 'parquet'] as const;
export type DeliveryFormat = (typeof DELIVERY_FORMATS)[number];

/** How a file is to be read; what the declaration does not say is found out from the file. */
export interface DeliveryOptions {
  readonly pattern: string;
  readonly format: DeliveryFormat;
  readonly delimiter?: string | undefined;
  readonly quote: string;
  readonly header: boolean;
  readonly encoding?: string | undefined;
  readonly nullText: string;
  readonly decimal?: string | undefined;
  readonly setsAside: boolean;
  /** Tables that are run when a file has arrived. */
  readonly thenRun: readonly string[];
  /** Rows are added; otherwise a file replaces the rows of its parts, or all. */
  readonly appends: boolean;
}

export function deliveryOptions(table: SourceTable): DeliveryOptions | undefined {
  const option = (name: string) => table.contract.options.get(name)?.value;
  const pattern = option('pattern');
  if (pattern === undefined) return undefined;
  const ending = /\.([a-z]+)$/.exec(pattern)?.[1];
  return {
    pattern,
    format:
      (option('format') as DeliveryFormat | undefined) ?? (ending === 'jsonl' || ending === 'parquet' ? ending : 'csv'),
    delimiter: option('delimiter')?.replace('\\t', '\t'),
    quote: option('quote') ?? '"',
    header: !['false', 'off'].includes(option('header') ?? 'true'),
    encoding: option('encoding'),
    nullText: option('null') ?? '',
    decimal: option('decimal'),
    setsAside: option('bad_rows') === 'set aside',
    thenRun: (option('then_run') ?? '')
      .split(',')
      .map((n) => n.trim())
      .filter((n) => n !== ''),
    appends: option('intake') === 'incremental',
  };
}

/** The table that a file is for, by its name; the values of its name's parts. */
export function tableForFile(
  tables: readonly SourceTable[],
  name: string,
): { readonly table: SourceTable; readonly parts: ReadonlyMap<string, string> } | undefined {
  for (const table of tables) {
    const pattern = table.contract.options.get('pattern')?.value;
    const parts = pattern === undefined ? undefined : matchFileName(pattern, name);
    if (parts) return { table, parts };
  }
  return undefined;
}

/** What would become of a file of some name, by the patterns as they are written now. */
export interface TriedName {
  readonly name: string;
  readonly table?: string;
  readonly pattern?: string;
  /** What the name gives, by column. */
  readonly parts: readonly (readonly [column: string, value: string])[];
  /** Tables whose patterns take it as well: the first one has it. */
  readonly also: readonly string[];
}

/** Tries names of files against the patterns of all tables that files are for. */
export function triedNames(project: Project, names: readonly string[]): readonly TriedName[] {
  const tables = [...project.tables.values()].filter(
    (t): t is SourceTable => t.kind === 'source' && project.servers.get(t.server)?.wrapper === 'file_fdw',
  );
  return names.map((name): TriedName => {
    const found = tableForFile(tables, name);
    if (!found) return { name, parts: [], also: [] };
    const also = tables.filter((t) => t !== found.table && tableForFile([t], name)).map((t) => t.fullName);
    return {
      name,
      table: found.table.fullName,
      pattern: found.table.contract.options.get('pattern')!.value,
      parts: [...found.parts],
      also,
    };
  });
}

const DELIMITERS = [',', ';', '\t', '|'];

/** The delimiter that a header line has most of, outside quotes. */
export function detectDelimiter(line: string): string {
  const bare = line.replace(/"(?:[^"]|"")*"/g, '');
  const counts = DELIMITERS.map((d) => bare.split(d).length);
  return DELIMITERS[counts.indexOf(Math.max(...counts))]!;
}

/** The decimal sign of numbers: a comma where some have one as such and none has a point. */
export function detectDecimal(values: readonly string[]): '.' | ',' {
  const comma = values.some((v) => /^\s*[-+]?[\d. ]*\d,\d+\s*$/.test(v));
  const point = values.some((v) => /^\s*[-+]?\d+\.\d+\s*$/.test(v));
  return comma && !point ? ',' : '.';
}

/** A number with a comma as its decimal sign, as PostgreSQL reads it: `1.204,50` is `1204.50`. */
export const withPoint = (value: string): string => value.replace(/[. ](?=\d{3}(?:\D|$))/g, '').replace(',', '.');

export const isNumberType = (type: string): boolean => familyOf(type) === 'number' && type !== 'money';
