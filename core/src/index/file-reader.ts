import type { SelectStmt } from 'libpg-query';
import { dottedRange, queryOf } from './mentions.js';
import { withoutMark, type ParsedText, type Statement } from '../sql/parser.js';
import { parseStatements } from '../sql/statements.js';
import { strings } from '../sql/nodes.js';
import { rangeOfLine, startsOfLines, type Range } from '../sql/positions.js';
import { nextToken, tokenize } from '../sql/tokens.js';
import { errorAt, type Finding } from '../model/diagnostic.js';
import { columnTwice, effect, statementNotAllowed, syntaxError } from './messages.js';
import type { Contract, IndexedFile, Query } from '../model/project.js';
import type { Effect } from './only-reading.js';
import { checkOptions } from '../language/options.js';

/** What is gathered while one file is read, and what all kinds of files need for it. */
export class FileReader {
  readonly result: {
    -readonly [K in keyof IndexedFile]: IndexedFile[K] extends readonly (infer T)[] ? T[] : IndexedFile[K];
  };
  /** The text, without a mark of the byte order. */
  readonly text: string;
  /** The file's name without its ending. */
  readonly stem: string;
  parsed!: ParsedText;
  private known: Comments | undefined;
  private lineStarts: readonly number[] | undefined;

  constructor(
    readonly path: string,
    written: string,
  ) {
    this.text = withoutMark(written);
    this.stem = path.slice(path.lastIndexOf('/') + 1).replace(/\.(sql|csv)$/, '');
    this.result = {
      path,
      text: this.text,
      layers: [],
      parameters: [],
      reviewRules: [],
      servers: [],
      tables: [],
      functions: [],
      checks: [],
      jobs: [],
      adhoc: [],
      examples: [],
      diagnostics: [],
    };
  }

  problem({ start, end }: Range, finding: Finding): void {
    this.result.diagnostics.push(errorAt({ path: this.path, range: { start, end } }, finding));
  }

  whole(): Range {
    const first = nextToken(this.text, 0);
    return first ? { start: first.start, end: first.end } : { start: 0, end: 0 };
  }

  /** Reads the statements that are sound, and tells what is wrong with the others. @returns whether all are sound */
  parse(): boolean {
    const { errors, broken, ...parsed } = parseStatements(this.text);
    this.parsed = parsed;
    this.result.at = parsed.at;
    const kept = parsed.statements.filter((s) => !('CommentStmt' in s.node));
    this.result.statements = [...kept, ...broken]
      .map(({ start, end }) => ({ start, end }))
      .sort((a, b) => a.start - b.start);
    for (const error of errors) this.problem(error.range, syntaxError(error.message));
    return errors.length === 0;
  }

  firstWord(statement: Range): Range {
    const token = nextToken(this.text, statement.start);
    return token ? { start: token.start, end: token.end } : statement;
  }

  notAllowed(statement: Statement, what: string): void {
    this.problem(this.firstWord(statement), statementNotAllowed(what));
  }

  /** A query of the file; what in it does more than read is reported. */
  query(select: SelectStmt, range: Range): Query {
    const { effects, ...query } = queryOf(this.parsed, select, range);
    this.effects(effects);
    return query;
  }

  effects(found: readonly Effect[]): void {
    for (const one of found) {
      const token = nextToken(this.text, this.parsed.at(one.location));
      this.problem(token ?? this.whole(), effect(one));
    }
  }

  /** The dotted name that follows the first of these words. */
  rangeAfterWord(statement: Range, words: readonly string[], parts: number): Range {
    const token = tokenize(this.text, statement.start, statement.end).find(
      (t) => t.kind === 'word' && words.includes(t.text.toLowerCase()),
    );
    return token ? dottedRange(this.text, token.end, parts) : this.firstWord(statement);
  }

  /** The text behind the first AS at depth 0 of `create view|table … as`. */
  rangeAfterAs(statement: Range): Range {
    let depth = 0;
    for (const token of tokenize(this.text, statement.start, statement.end)) {
      if (token.text === '(') depth++;
      else if (token.text === ')') depth--;
      else if (depth === 0 && token.kind === 'word' && token.text.toLowerCase() === 'as') {
        return { start: nextToken(this.text, token.end)?.start ?? token.end, end: statement.end };
      }
    }
    return statement;
  }

  lineRange(line: number): Range {
    return rangeOfLine((this.lineStarts ??= startsOfLines(this.text)), line, this.text.length);
  }

  /** Reports unknown options of columns, and columns that are declared twice. */
  columnOptions(contract: Contract, allowed: Parameters<typeof checkOptions>[2], what: string): void {
    for (const [i, column] of contract.columns.entries()) {
      for (const name in column.options) {
        const option = new Map([[name, { value: column.options[name]!, range: column.range }]]);
        this.result.diagnostics.push(...checkOptions(this.path, option, allowed, what));
      }
      if (contract.columns.findIndex((c) => c.name === column.name) < i)
        this.problem(column.range, columnTwice(column.name));
    }
  }

  get comments(): Comments {
    if (this.known) return this.known;
    const comments: Comments = { tables: new Map(), columns: new Map(), constraints: new Map() };
    for (const { node } of this.parsed?.statements ?? []) {
      if (!('CommentStmt' in node)) continue;
      const { objtype, object, comment = '' } = node.CommentStmt;
      const items = object && 'List' in object ? (object.List.items ?? []) : [];
      const name = strings(items).join('.');
      if (objtype === 'OBJECT_COLUMN') comments.columns.set(name, comment);
      else if (objtype === 'OBJECT_TABCONSTRAINT') comments.constraints.set(name, comment);
      else if (['OBJECT_TABLE', 'OBJECT_VIEW', 'OBJECT_FOREIGN_TABLE'].includes(objtype ?? ''))
        comments.tables.set(name, comment);
    }
    return (this.known = comments);
  }
}

/** Comments of a file by full name: `layer.table`, `layer.table.column`, `layer.table.constraint`. */
export interface Comments {
  readonly tables: Map<string, string>;
  readonly columns: Map<string, string>;
  readonly constraints: Map<string, string>;
}

/** A contract with what the file says about its columns and constraints. */
export function withComments(contract: Contract, comments: Comments, fullName: string): Contract {
  const commented = <T extends { readonly name: string }>(
    items: readonly T[],
    texts: ReadonlyMap<string, string>,
  ): readonly T[] =>
    texts.size === 0
      ? items
      : items.map((item) => ({ ...item, ...optional('comment', texts.get(`${fullName}.${item.name}`)) }));
  return {
    ...contract,
    columns: commented(contract.columns, comments.columns),
    constraints: commented(contract.constraints, comments.constraints),
  };
}

/** The property, if there is a value for it. */
export function optional<K extends string, V>(key: K, value: V | undefined): Partial<Record<K, V>> {
  return value === undefined ? {} : ({ [key]: value } as Record<K, V>);
}
