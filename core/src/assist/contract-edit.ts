import { isView } from '../language/policies.js';
import { indexFile } from '../index/index-file.js';
import type { ConstraintDeclaration, Definition } from '../model/project.js';
import { applyEdits, type Edit } from '../sql/edits.js';
import type { Range } from '../sql/positions.js';
import { parseSql } from '../sql/parser.js';
import { literal, plainIdent } from '../sql/quote.js';
import { nameOf, nextToken, tokenize, type Token } from '../sql/tokens.js';
import { constraintRange } from '../index/contract.js';
import { elementsOf, removalsOf, typeRange } from '../index/elements.js';

/** One change of a definition's contract, as a form makes it. An empty value takes something out. */
export type ContractEdit =
  | { readonly kind: 'type'; readonly column: string; readonly type: string }
  | { readonly kind: 'not null'; readonly column: string; readonly on: boolean }
  | { readonly kind: 'column option'; readonly column: string; readonly option: string; readonly value: string }
  | { readonly kind: 'table option'; readonly option: string; readonly value: string }
  /** Of a column, or of the table. */
  | { readonly kind: 'comment'; readonly column?: string; readonly text: string }
  | { readonly kind: 'add column'; readonly name: string; readonly type: string }
  | { readonly kind: 'drop column'; readonly column: string }
  /** A constraint as it is written, `check (tonnage > 0)`: of a column, or of the table. */
  | { readonly kind: 'add constraint'; readonly column?: string; readonly text: string }
  | { readonly kind: 'drop constraint'; readonly name: string }
  /** A contract for a definition that has none. */
  | { readonly kind: 'write'; readonly columns: readonly { readonly name: string; readonly type: string }[] };

/** An edit that cannot be made, in words. */
export class ContractEditError extends Error {}

/**
 * Changes the contract of a definition in its text; layout, comments and everything else of the
 * author's stay as they are.
 * @param path of the definition, which says its layer and name
 * @throws ContractEditError where the text has no such column, constraint or contract, or is not sound
 */
export function editContract(path: string, text: string, edits: readonly ContractEdit[]): string {
  return edits.reduce((now, edit) => new ContractText(path, now).edited(edit), text);
}

class ContractText {
  private readonly table: Definition;

  constructor(
    path: string,
    private readonly text: string,
  ) {
    const file = indexFile(path, text);
    const syntax = file.diagnostics.find((d) => d.code === 'syntax');
    const [table] = file.tables;
    if (syntax) throw new ContractEditError(`the text has a syntax error: ${syntax.message}`);
    if (table?.kind !== 'definition') throw new ContractEditError(`${path} is not a definition`);
    this.table = table;
  }

  edited(edit: ContractEdit): string {
    return applyEdits(this.text, this.editsOf(edit)).text;
  }

  private editsOf(edit: ContractEdit): Edit[] {
    switch (edit.kind) {
      case 'type':
        return [{ ...this.typeOf(edit.column), text: edit.type }];
      case 'not null':
        return this.notNull(edit.column, edit.on);
      case 'column option':
        return this.columnOption(edit.column, edit.option, edit.value);
      case 'table option':
        return this.tableOption(edit.option, edit.value);
      case 'comment':
        return this.comment(edit.column, edit.text);
      case 'add column':
        return [this.addColumn(edit.name, edit.type)];
      case 'drop column':
        return this.dropColumn(edit.column);
      case 'add constraint':
        return [this.addConstraint(edit.column, edit.text)];
      case 'drop constraint':
        return this.dropConstraint(edit.name);
      case 'write':
        return this.write(edit.columns);
    }
  }

  private get contract(): NonNullable<Definition['contract']> {
    if (!this.table.contract) throw new ContractEditError(`${this.table.fullName} has no contract yet`);
    return this.table.contract;
  }

  private get elements(): Range[] {
    return elementsOf(this.text, this.contract.range);
  }

  private elementOf(column: string): Range {
    const start = this.contract.columns.find((c) => c.name === column)?.range.start;
    const element = this.elements.find((e) => e.start === start);
    if (!element) throw new ContractEditError(`the contract has no column ${column}`);
    return element;
  }

  private typeOf(column: string): Range {
    const found = typeRange(this.text, this.elementOf(column));
    if (!found) throw new ContractEditError(`${column} has no type`);
    return found;
  }

  private notNull(column: string, on: boolean): Edit[] {
    const element = this.elementOf(column);
    const own = this.contract.constraints.find((c) => c.kind === 'not null' && c.columns[0] === column);
    if (on) return own ? [] : [insertAt(element.end, ' not null')];
    if (!own) throw new ContractEditError(`${column} is part of the key, which is never null`);
    return [this.withSpaceBefore(this.startOfConstraint(own, element))];
  }

  /** The range of a constraint inside an element, with its `constraint name`. */
  private startOfConstraint(constraint: ConstraintDeclaration, element: Range): Range {
    const tokens = tokenize(this.text, element.start, constraint.start).filter((t) => t.kind !== 'comment');
    const [word, name] = tokens.slice(-2);
    const named = word?.text.toLowerCase() === 'constraint' && name !== undefined && nameOf(name) === constraint.name;
    const { end } =
      constraint.kind === 'not null'
        ? this.notNullRange(constraint.start)
        : constraintRange(this.text, constraint.start);
    return { start: named ? word.start : constraint.start, end };
  }

  /** `not null`, from where the constraint begins. */
  private notNullRange(start: number): Range {
    let token = nextToken(this.text, start);
    while (token && token.text.toLowerCase() !== 'null') token = nextToken(this.text, token.end);
    return { start, end: token?.end ?? start };
  }

  private withSpaceBefore({ start, end }: Range): Edit {
    const blanks = /\s*$/.exec(this.text.slice(0, start))![0].length;
    return { start: start - blanks, end, text: '' };
  }

  private columnOption(column: string, option: string, value: string): Edit[] {
    const element = this.elementOf(column);
    const type = this.typeOf(column);
    const next = nextToken(this.text, type.end);
    if (next?.text.toLowerCase() !== 'options' || next.start >= element.end)
      return value === '' ? [] : [insertAt(type.end, ` options (${plainIdent(option)} ${literal(value)})`)];
    const items = itemsOf(this.text, next.end);
    return changeItem(
      this.text,
      items,
      option,
      value === '' ? undefined : `${plainIdent(option)} ${literal(value)}`,
      () => this.withSpaceBefore({ start: next.start, end: items.end }),
    );
  }

  private tableOption(option: string, value: string): Edit[] {
    const close = this.closeOfElements();
    const written = value === '' ? undefined : `${option} = ${plainValue(value)}`;
    const next = nextToken(this.text, close);
    if (next?.text.toLowerCase() !== 'with' || next.start >= this.contract.range.end)
      return written === undefined ? [] : [insertAt(close, ` with (${written})`)];
    const items = itemsOf(this.text, next.end);
    return changeItem(this.text, items, option, written, () =>
      this.withSpaceBefore({ start: next.start, end: items.end }),
    );
  }

  /** Behind the parenthesis that closes the list of columns. */
  private closeOfElements(): number {
    const last = this.elements.at(-1);
    if (!last) throw new ContractEditError('the contract has no columns');
    let token = nextToken(this.text, last.end);
    while (token && token.text !== ')') token = nextToken(this.text, token.end);
    return token!.end;
  }

  private comment(column: string | undefined, text: string): Edit[] {
    const { fullName } = this.table;
    const about =
      column === undefined
        ? `comment on table ${nameText(fullName)}`
        : `comment on column ${nameText(`${fullName}.${column}`)}`;
    const known = this.commentStatement(column);
    if (!known) {
      if (text === '') return [];
      const last = this.statements()
        .filter((s) => this.isComment(s) || s.start === this.contract.range.start)
        .at(-1)!;
      return [insertAt(this.afterSemicolon(last.end), `\n${about} is ${literal(text)};`)];
    }
    if (text !== '') {
      const string = this.plainTokens(known).findLast((t) => t.kind === 'string')!;
      return [{ start: string.start, end: string.end, text: literal(text) }];
    }
    return [this.withSpaceBefore({ start: known.start, end: this.afterSemicolon(known.end) })];
  }

  private statements(): readonly Range[] {
    return parseSql(this.text).statements;
  }

  private plainTokens(range: Range): Token[] {
    return tokenize(this.text, range.start, range.end).filter((t) => t.kind !== 'comment');
  }

  private isComment(range: Range): boolean {
    return this.plainTokens(range)[0]?.text.toLowerCase() === 'comment';
  }

  private commentStatement(column: string | undefined): Range | undefined {
    return this.statements().find((s) => {
      const [first, , what, ...rest] = this.plainTokens(s);
      if (first?.text.toLowerCase() !== 'comment') return false;
      const name = rest
        .slice(
          0,
          rest.findIndex((t) => t.text.toLowerCase() === 'is'),
        )
        .filter((t) => t.text !== '.');
      if (column === undefined) return ['table', 'view'].includes(what?.text.toLowerCase() ?? '');
      return what?.text.toLowerCase() === 'column' && name.length > 0 && nameOf(name.at(-1)!) === column;
    });
  }

  private afterSemicolon(end: number): number {
    const next = nextToken(this.text, end);
    return next?.text === ';' ? next.end : end;
  }

  private addColumn(name: string, type: string): Edit {
    const { columns } = this.contract;
    const last = columns.at(-1);
    if (columns.some((c) => c.name === name)) throw new ContractEditError(`the contract has a column ${name} already`);
    if (!last) throw new ContractEditError('the contract has no columns');
    const element = this.elementOf(last.name);
    const lineStart = this.text.lastIndexOf('\n', element.start) + 1;
    const indent = this.text.slice(lineStart, element.start);
    // The type is below the others' types, where they are below each other.
    const width = this.typeOf(last.name).start - element.start;
    const own =
      /^\s*$/.test(indent) && lineStart > 0
        ? `,\n${indent}${plainIdent(name).padEnd(width - 1)} ${type}`
        : `, ${plainIdent(name)} ${type}`;
    return insertAt(element.end, own);
  }

  private dropColumn(column: string): Edit[] {
    const { elements } = this;
    const element = this.elementOf(column);
    if (elements.length === 1) throw new ContractEditError('a contract has one column at least');
    const comment = this.commentStatement(column);
    return [
      ...removalsOf(elements, (i) => elements[i]!.start === element.start).map((r) => ({ ...r, text: '' })),
      ...(comment ? [this.withSpaceBefore({ start: comment.start, end: this.afterSemicolon(comment.end) })] : []),
    ];
  }

  private addConstraint(column: string | undefined, text: string): Edit {
    if (column !== undefined) return insertAt(this.elementOf(column).end, ` ${text}`);
    const last = this.elements.at(-1)!;
    const lineStart = this.text.lastIndexOf('\n', last.start) + 1;
    const indent = /^\s*/.exec(this.text.slice(lineStart, last.start))![0];
    return insertAt(last.end, lineStart > 0 ? `,\n${indent}${text}` : `, ${text}`);
  }

  private dropConstraint(name: string): Edit[] {
    const constraint = this.contract.constraints.find((c) => c.name === name);
    if (!constraint) throw new ContractEditError(`the contract has no constraint ${name}`);
    const { elements } = this;
    const i = elements.findIndex((e) => e.start <= constraint.start && constraint.start < e.end);
    const whole = this.startOfConstraint(constraint, elements[i]!);
    if (whole.start === elements[i]!.start)
      return removalsOf(elements, (n) => n === i).map((r) => ({ ...r, text: '' }));
    return [this.withSpaceBefore(whole)];
  }

  private write(columns: readonly { readonly name: string; readonly type: string }[]): Edit[] {
    const { table } = this;
    if (table.contract) throw new ContractEditError(`${table.fullName} has a contract already`);
    if (!table.query) throw new ContractEditError(`${table.fullName} has no query yet`);
    const width = Math.max(...columns.map((c) => plainIdent(c.name).length));
    const lines = columns.map((c) => `  ${plainIdent(c.name).padEnd(width)} ${c.type}`);
    const options = isView(table) ? ' with (load = view)' : '';
    const contract = `create table ${nameText(table.fullName)} (\n${lines.join(',\n')}\n)${options};\n\n`;
    // What said `create view … as` before the query is now said by the contract.
    const statement = this.statements().find((s) => s.start <= table.query!.start && table.query!.start < s.end)!;
    return [{ start: statement.start, end: table.query.start, text: contract }];
  }
}

const insertAt = (at: number, text: string): Edit => ({ start: at, end: at, text });
const nameText = (name: string): string => name.split('.').map(plainIdent).join('.');
/** A value as it is written in `with (…)`: plain where it is a word or a number. */
const plainValue = (value: string): string =>
  /^\d+$/.test(value) || (plainIdent(value) === value && /^[a-z_]+$/.test(value)) ? value : literal(value);

/** The items of a list in parentheses, each from its first token to its last. */
function itemsOf(text: string, from: number): { readonly items: readonly Range[]; readonly end: number } {
  const items: Range[] = [];
  let depth = 0;
  let open: { start: number; end: number } | undefined;
  for (let token = nextToken(text, from); token; token = nextToken(text, token.end)) {
    if (token.kind === 'comment') continue;
    if (token.text === ')' && --depth === 0) return { items: open ? [...items, open] : items, end: token.end };
    if (depth === 1 && token.text === ',') {
      if (open) items.push(open);
      open = undefined;
    } else if (depth >= 1) open = { start: open?.start ?? token.start, end: token.end };
    if (token.text === '(') depth++;
  }
  return { items, end: text.length };
}

/** Replaces, adds or takes out the item of a list that begins with a name. @param removeAll what to do where none would be left */
function changeItem(
  text: string,
  { items, end }: { readonly items: readonly Range[]; readonly end: number },
  name: string,
  written: string | undefined,
  removeAll: () => Edit,
): Edit[] {
  const i = items.findIndex((item) => nameOf(nextToken(text, item.start)!) === name);
  if (written !== undefined)
    return [
      i >= 0
        ? { ...items[i]!, text: written }
        : insertAt(items.at(-1)?.end ?? end - 1, items.length ? `, ${written}` : written),
    ];
  if (i < 0) return [];
  return items.length === 1 ? [removeAll()] : removalsOf(items, (n) => n === i).map((r) => ({ ...r, text: '' }));
}
