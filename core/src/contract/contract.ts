import type { ColumnDef, Constraint, DefElem, Node } from 'libpg-query';
import type { ParsedText } from '../sql/parser.js';
import { nextToken } from '../sql/tokens.js';
import { typeText } from '../sql/types.js';
import { boundedName } from '../sql/quote.js';
import type { ColumnDeclaration, ConstraintDeclaration, ConstraintKind, Contract, OptionValue } from '../project/model.js';

/** Reads a contract from the elements of `CREATE TABLE` or `CREATE FOREIGN TABLE`. */
export function readContract(
  parsed: ParsedText,
  table: string,
  elements: readonly Node[],
  options: readonly Node[],
  range: { readonly start: number; readonly end: number },
): Contract {
  const columns: ColumnDeclaration[] = [];
  const raw: { constraint: Constraint; column?: string }[] = [];
  for (const element of elements) {
    if ('ColumnDef' in element) {
      columns.push(readColumn(parsed, element.ColumnDef));
      for (const c of element.ColumnDef.constraints ?? []) {
        if ('Constraint' in c) raw.push({ constraint: c.Constraint, column: element.ColumnDef.colname });
      }
    } else if ('Constraint' in element) raw.push({ constraint: element.Constraint });
  }
  const constraints = readConstraints(parsed, table, raw);
  const keyColumns = new Set(constraints.filter((c) => c.kind === 'primary key').flatMap((c) => c.columns));
  const required = new Set(constraints.filter((c) => c.kind === 'not null').flatMap((c) => c.columns));
  return {
    columns: columns.map((c) => ({ ...c, notNull: required.has(c.name) || keyColumns.has(c.name) })),
    constraints,
    options: readOptions(parsed, options),
    range,
  };
}

function readColumn(parsed: ParsedText, column: ColumnDef): ColumnDeclaration {
  const start = parsed.at(column.location);
  const options: Record<string, string> = {};
  for (const [name, option] of readOptions(parsed, column.fdwoptions ?? [])) options[name] = option.value;
  return {
    name: column.colname ?? '',
    type: column.typeName ? typeText(column.typeName) : 'text',
    notNull: false,
    options,
    range: { start, end: nextToken(parsed.text, start)?.end ?? start },
  };
}

/** `WITH (...)` and `OPTIONS (...)` as names and values, in the author's order. */
export function readOptions(parsed: ParsedText, nodes: readonly Node[]): ReadonlyMap<string, OptionValue> {
  const options = new Map<string, OptionValue>();
  for (const node of nodes) {
    if (!('DefElem' in node)) continue;
    const start = parsed.at(node.DefElem.location);
    const end = nextToken(parsed.text, start)?.end ?? start;
    options.set(node.DefElem.defname ?? '', { value: optionValue(node.DefElem), range: { start, end } });
  }
  return options;
}

function optionValue({ arg }: DefElem): string {
  if (!arg) return 'true';
  if ('String' in arg) return arg.String.sval ?? '';
  if ('Integer' in arg) return String(arg.Integer.ival ?? 0);
  if ('Float' in arg) return arg.Float.fval ?? '';
  if ('Boolean' in arg) return String(arg.Boolean.boolval ?? false);
  if ('TypeName' in arg) return (arg.TypeName.names ?? []).map((n) => ('String' in n ? n.String.sval : '')).join('.');
  return '';
}

const KINDS: Readonly<Record<string, ConstraintKind>> = {
  CONSTR_NOTNULL: 'not null',
  CONSTR_UNIQUE: 'unique',
  CONSTR_PRIMARY: 'primary key',
  CONSTR_CHECK: 'check',
  CONSTR_FOREIGN: 'references',
};

/** The default names follow PostgreSQL's: table_columns_suffix, numbered when taken. */
function readConstraints(parsed: ParsedText, table: string, raw: readonly { constraint: Constraint; column?: string }[]): ConstraintDeclaration[] {
  const taken = new Set(raw.flatMap((r) => r.constraint.conname ?? []));
  const nameFor = (columns: readonly string[], kind: ConstraintKind): string => {
    const suffix = { 'not null': '_not_null', unique: '_key', 'primary key': '_pkey', check: '_check', references: '_fkey' }[kind];
    const base = kind === 'primary key' ? table : [table, ...columns].join('_');
    for (let n = 0; ; n++) {
      const name = boundedName(base, suffix + (n || ''));
      if (!taken.has(name)) {
        taken.add(name);
        return name;
      }
    }
  };
  const result: ConstraintDeclaration[] = [];
  for (const { constraint, column } of raw) {
    const kind = KINDS[constraint.contype ?? ''];
    if (!kind) continue;
    const own = column === undefined ? [] : [column];
    const named = names(constraint.keys ?? constraint.fk_attrs);
    const columns = kind === 'check' ? columnsOf(constraint.raw_expr) : named.length ? named : own;
    const start = parsed.at(constraint.location);
    result.push({
      kind,
      columns,
      name: constraint.conname ?? nameFor(kind === 'check' ? (own.length ? own : columns.length === 1 ? columns : []) : columns, kind),
      ...(kind === 'check' ? { expression: checkText(parsed, start), condition: constraint.raw_expr } : {}),
      ...(constraint.pktable
        ? { references: { table: `${constraint.pktable.schemaname ?? ''}.${constraint.pktable.relname ?? ''}`, columns: names(constraint.pk_attrs) } }
        : {}),
      range: { start, end: constraintEnd(parsed.text, start) },
    });
  }
  return result;
}

function names(nodes: readonly Node[] | undefined): string[] {
  return (nodes ?? []).flatMap((n) => ('String' in n ? [n.String.sval ?? ''] : []));
}

/** The columns that a check's condition mentions, in order. */
function columnsOf(node: unknown, found: string[] = []): string[] {
  if (typeof node !== 'object' || node === null) return found;
  const fields = (node as { ColumnRef?: { fields?: Node[] } }).ColumnRef?.fields;
  if (fields) {
    const name = names(fields).at(-1);
    if (name !== undefined && !found.includes(name)) found.push(name);
  } else for (const value of Object.values(node)) columnsOf(value, found);
  return found;
}

function parenthesized(text: string, from: number): { start: number; end: number } | undefined {
  let depth = 0;
  let start = -1;
  for (let token = nextToken(text, from); token; token = nextToken(text, token.end)) {
    if (token.text === '(' && depth++ === 0) start = token.end;
    else if (token.text === ')' && --depth === 0) return { start, end: token.start };
    if (depth < 0) return undefined;
  }
  return undefined;
}

/** The condition between the parentheses of a `CHECK (...)`. */
function checkText(parsed: ParsedText, start: number): string {
  const inside = parenthesized(parsed.text, start);
  return inside ? parsed.text.slice(inside.start, inside.end).trim() : '';
}

/** Where a constraint that starts at `start` ends: at the comma or parenthesis that closes its element. */
function constraintEnd(text: string, start: number): number {
  let depth = 0;
  let end = start;
  for (let token = nextToken(text, start); token; token = nextToken(text, token.end)) {
    if (depth === 0 && (token.text === ',' || token.text === ')' || token.text === ';')) break;
    if (token.text === '(') depth++;
    if (token.text === ')') depth--;
    end = token.end;
    if (depth === 0 && token.text === ')') break;
    if (depth === 0 && nextToken(text, end)?.text.toLowerCase() === 'constraint') break;
  }
  return end;
}
