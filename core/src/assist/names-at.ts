import type { Column, Project } from '../model/project.js';
import { commonTables, Words } from '../sql/blocks.js';
import { parseSql } from '../sql/parser.js';
import { nameOf, tokenize, type Token } from '../sql/tokens.js';
import { projectAround } from '../columns/around.js';
import { resolveColumns } from '../columns/columns.js';

/** A name that a query may use at some place, with the columns that it stands for. */
export interface NameInScope {
  readonly name: string;
  /** The table of the project, or what else it is. */
  readonly of: string;
  readonly columns: readonly { readonly name: string; readonly type?: string }[];
}

/**
 * The tables, aliases and common table expressions that can be used at `offset` of a text that is
 * being typed and need not parse: read from its tokens, nearest first.
 */
export function namesAt(
  project: Pick<Project, 'columns' | 'functions'>,
  text: string,
  offset: number,
): { readonly ranges: readonly NameInScope[]; readonly ctes: readonly NameInScope[] } {
  const tokens = tokenize(text).filter((t) => t.kind !== 'comment');
  const start = tokens.findLast((t) => t.text === ';' && t.end <= offset)?.end ?? 0;
  const statement = tokens.filter((t) => t.start >= start);
  const close = statement.findIndex((t) => t.text === ';');
  const scope = new ScopeReader(project, text, close < 0 ? statement : statement.slice(0, close));
  return { ranges: scope.ranges(offset), ctes: [...scope.ctes.values()] };
}

const AFTER_ITEM = new Set([
  'where',
  'group',
  'order',
  'having',
  'limit',
  'on',
  'using',
  'join',
  'left',
  'right',
  'full',
  'inner',
  'cross',
  'natural',
  'union',
  'window',
  'fetch',
  'offset',
  'tablesample',
  'select',
  'from',
  'except',
  'intersect',
]);

class ScopeReader extends Words {
  readonly ctes = new Map<string, NameInScope>();

  constructor(
    private readonly project: Pick<Project, 'columns' | 'functions'>,
    private readonly text: string,
    tokens: readonly Token[],
  ) {
    super(tokens);
    this.readCtes();
  }

  private isName(i: number): boolean {
    const kind = this.tokens[i]?.kind;
    return kind === 'quoted' || (kind === 'word' && !AFTER_ITEM.has(this.word(i)));
  }

  /** CTEs, whose columns come from their texts. */
  private readCtes(): void {
    // `with (` begins the options of a table.
    const first = this.tokens.findIndex((_, i) => this.word(i) === 'with' && this.word(i + 1) !== '(');
    if (first < 0) return;
    const from = this.tokens[first]!.start;
    for (const { name, named, close } of commonTables(this, first)) {
      const upTo = this.tokens[close]?.end;
      const columns =
        upTo === undefined ? undefined : this.columnsOf(`${this.text.slice(from, upTo)} select * from ${named.text}`);
      this.ctes.set(name, { name, of: 'common table expression', columns: columns ?? [] });
    }
  }

  private columnsOf(sql: string): readonly Column[] | undefined {
    const node = parseSql(sql).statements[0]?.node;
    if (!node || !('SelectStmt' in node)) return undefined;
    const around = projectAround((name) => this.project.columns.get(name), this.project.functions);
    return resolveColumns(node.SelectStmt, around).columns;
  }

  /** FROM items of the select around `offset`, then those of the selects around that. */
  ranges(offset: number): NameInScope[] {
    const open: number[] = [-1];
    this.tokens.forEach((token, i) => {
      if (token.start >= offset) return;
      if (token.text === '(') open.push(i);
      else if (token.text === ')' && open.length > 1) open.pop();
    });
    return open.reverse().flatMap((block) => this.blockItems(block, offset));
  }

  private blockItems(open: number, offset: number): NameInScope[] {
    const end = open < 0 ? this.tokens.length : this.closing(open);
    let arm: NameInScope[] = [];
    let inFrom = false;
    for (let i = open + 1; i < end; i++) {
      const word = this.word(i);
      if (word === '(') {
        i = this.closing(i);
        continue;
      }
      if (['union', 'except', 'intersect'].includes(word)) {
        if (this.tokens[i]!.start >= offset) break;
        arm = [];
        inFrom = false;
      } else if (['where', 'group', 'order', 'having', 'limit', 'select', 'window'].includes(word)) inFrom = false;
      else if (word === 'from' || word === 'join' || (word === ',' && inFrom)) {
        inFrom = true;
        const item = this.itemAt(i + 1);
        if (item) arm.push(item.name);
        i = item ? item.last : i;
      }
    }
    return arm;
  }

  private itemAt(start: number): { name: NameInScope; last: number } | undefined {
    let at = this.word(start) === 'lateral' ? start + 1 : start;
    let found: { of: string; columns: NameInScope['columns'] | undefined; name: string };
    if (this.word(at) === '(') {
      const end = this.closing(at);
      const inner = this.text.slice(this.tokens[at]!.end, this.tokens[end]?.start ?? this.text.length);
      found = { of: 'subquery', columns: this.columnsOf(inner), name: '' };
      at = end + 1;
    } else if (this.isName(at)) {
      const first = nameOf(this.tokens[at]!);
      const second = this.word(at + 1) === '.' && this.isName(at + 2) ? nameOf(this.tokens[at + 2]!) : undefined;
      at += second === undefined ? 1 : 3;
      const full = second === undefined ? first : `${first}.${second}`;
      found = {
        of: full,
        columns: second === undefined ? this.ctes.get(first)?.columns : this.project.columns.get(full),
        name: second ?? first,
      };
    } else return undefined;
    if (this.word(at) === 'as') at++;
    const alias = this.isName(at) && this.tokens[at - 1]?.text !== '.' ? nameOf(this.tokens[at++]!) : undefined;
    const name = alias ?? found.name;
    return { name: { name, of: found.of, columns: found.columns ?? [] }, last: at - 1 };
  }
}
