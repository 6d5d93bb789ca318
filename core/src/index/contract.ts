import type { ColumnDef, ColumnRef, Constraint, DefElem, Node } from 'libpg-query';
import type { ParsedText } from '../sql/parser.js';
import type { Range } from '../sql/positions.js';
import { strings } from '../sql/nodes.js';
import { nextToken } from '../sql/tokens.js';
import { typeText } from '../sql/types.js';
import { objectName } from '../sql/quote.js';
import type {
  ColumnDeclaration,
  ConstraintDeclaration,
  ConstraintKind,
  Contract,
  LeftToDatabase,
  OptionValue,
  Writable,
} from '../model/project.js';

/** Reads a contract from the elements of `CREATE TABLE` or `CREATE FOREIGN TABLE`. */
export function readContract(
  parsed: ParsedText,
  table: string,
  {
    elements = [],
    options = [],
  }: { readonly elements?: readonly Node[] | undefined; readonly options?: readonly Node[] | undefined },
  { start, end }: Range,
): Contract {
  const columns: Writable<ColumnDeclaration>[] = [];
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
  for (const constraint of constraints) {
    if (constraint.kind !== 'primary key' && constraint.kind !== 'not null') continue;
    for (const column of columns) if (constraint.columns.includes(column.name)) column.notNull = true;
  }
  return {
    columns,
    constraints,
    options: readOptions(parsed, options),
    leftToDatabase: leftToDatabase(parsed, elements),
    range: { start, end },
  };
}

const LEFT: ReadonlyMap<string, LeftToDatabase['kind']> = new Map([
  ['CONSTR_DEFAULT', 'default'],
  ['CONSTR_IDENTITY', 'identity'],
  ['CONSTR_GENERATED', 'generated'],
  ['CONSTR_EXCLUSION', 'exclusion'],
]);
const SERIAL: ReadonlySet<string> = new Set(['serial', 'bigserial', 'smallserial', 'serial2', 'serial4', 'serial8']);

function leftToDatabase(parsed: ParsedText, elements: readonly Node[]): LeftToDatabase[] {
  const token = (location: number | undefined): Range => {
    const start = parsed.at(location);
    return { start, end: nextToken(parsed.text, start)?.end ?? start };
  };
  const constraint = (c: Node, column: string): LeftToDatabase[] => {
    const kind = 'Constraint' in c ? LEFT.get(c.Constraint.contype ?? '') : undefined;
    return kind && 'Constraint' in c ? [{ kind, column, range: token(c.Constraint.location) }] : [];
  };
  return elements.flatMap((element): LeftToDatabase[] => {
    if (!('ColumnDef' in element)) return constraint(element, '');
    const { colname = '', location, typeName, collClause, constraints = [] } = element.ColumnDef;
    const type = strings(typeName?.names).at(-1) ?? '';
    return [
      ...(SERIAL.has(type) ? [{ kind: 'identity' as const, column: colname, range: token(location) }] : []),
      ...(collClause ? [{ kind: 'collation' as const, column: colname, range: token(collClause.location) }] : []),
      ...constraints.flatMap((c) => constraint(c, colname)),
    ];
  });
}

const NO_COLUMN_OPTIONS: ColumnDeclaration['options'] = {};

function readColumn(parsed: ParsedText, column: ColumnDef): Writable<ColumnDeclaration> {
  const start = parsed.at(column.location);
  let options = NO_COLUMN_OPTIONS;
  if (column.fdwoptions)
    options = Object.fromEntries([...readOptions(parsed, column.fdwoptions)].map(([name, { value }]) => [name, value]));
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
  if ('TypeName' in arg) return strings(arg.TypeName.names).join('.');
  return '';
}

const KINDS: Readonly<Record<string, ConstraintKind>> = {
  CONSTR_NOTNULL: 'not null',
  CONSTR_UNIQUE: 'unique',
  CONSTR_PRIMARY: 'primary key',
  CONSTR_CHECK: 'check',
  CONSTR_FOREIGN: 'references',
};

const LABELS: Readonly<Record<ConstraintKind, string>> = {
  'not null': 'not_null',
  unique: 'key',
  'primary key': 'pkey',
  check: 'check',
  references: 'fkey',
};

/** The default names follow PostgreSQL's: table_columns_suffix, numbered when taken. */
function readConstraints(
  parsed: ParsedText,
  table: string,
  raw: readonly { constraint: Constraint; column?: string }[],
): ConstraintDeclaration[] {
  const taken = new Set<string>();
  for (const { constraint } of raw) if (constraint.conname !== undefined) taken.add(constraint.conname);
  const nameFor = (columns: readonly string[], kind: ConstraintKind): string => {
    const named = kind === 'primary key' ? '' : columns.join('_');
    for (let n = 0; ; n++) {
      const name = objectName(table, named, n === 0 ? LABELS[kind] : `${LABELS[kind]}${n}`);
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
    const start = parsed.at(constraint.location);
    const read: Writable<ConstraintDeclaration> = { kind, name: constraint.conname ?? '', columns: own, start };
    if (kind === 'check') {
      read.columns = columnsOf(constraint.raw_expr);
      read.expression = checkText(parsed, start);
      if (constraint.raw_expr) read.condition = constraint.raw_expr;
    } else {
      const named = strings(constraint.keys ?? constraint.fk_attrs);
      if (named.length) read.columns = named;
    }
    if (constraint.conname === undefined) {
      const naming = kind !== 'check' || column === undefined ? read.columns : own;
      read.name = nameFor(kind === 'check' && naming.length > 1 ? [] : naming, kind);
    }
    const { pktable } = constraint;
    if (pktable)
      read.references = {
        table: `${pktable.schemaname ?? ''}.${pktable.relname ?? ''}`,
        columns: strings(constraint.pk_attrs),
      };
    result.push(read);
  }
  return result;
}

/** The columns that a check's condition mentions, in order. */
function columnsOf(node: object = {}, found: string[] = []): string[] {
  for (const key in node) {
    const value = (node as Record<string, unknown>)[key];
    if (typeof value !== 'object' || value === null || key === 'A_Const' || key === 'typeName') continue;
    if (key !== 'ColumnRef') columnsOf(value, found);
    else {
      const name = strings((value as ColumnRef).fields).at(-1);
      if (name !== undefined && !found.includes(name)) found.push(name);
    }
  }
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

/** The range of a constraint that begins at `start`: to the comma or parenthesis that closes its element. */
export function constraintRange(text: string, start: number): Range {
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
  return { start, end };
}
