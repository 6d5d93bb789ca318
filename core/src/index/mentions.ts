import type { Node, SelectStmt } from 'libpg-query';
import type { ParsedText } from '../sql/parser.js';
import { strings } from '../sql/nodes.js';
import type { Range } from '../sql/positions.js';
import { nextToken, type Token } from '../sql/tokens.js';
import { effectOf, effectOfCall, type Effect } from './only-reading.js';
import { momentOfCall, momentOfValue } from './moments.js';
import type { FunctionMention, MomentMention, Query, SettingMention, TableMention } from '../model/project.js';

/**
 * Finds every name in a query that belongs to the project: tables (not those that a CTE hides),
 * three-part column references, functions of the project, parameters. One walk over the tree, from
 * the query's text alone.
 */
export interface Mentions {
  readonly tables: TableMention[];
  readonly functions: FunctionMention[];
  readonly settings: SettingMention[];
  readonly moments: MomentMention[];
  /** What does more than read. */
  readonly effects: Effect[];
}

/** The schema of the project's own functions. */
export const FUNCTIONS_SCHEMA = 'functions';

export function noMentions(): Mentions {
  return { tables: [], functions: [], settings: [], moments: [], effects: [] };
}

export function queryOf(parsed: ParsedText, select: SelectStmt, range: Range): Query & Pick<Mentions, 'effects'> {
  const found = mentionsIn(parsed, { SelectStmt: select });
  return { select, start: range.start, end: range.end, ...found };
}

export function mentionsIn(parsed: ParsedText, node: unknown): Mentions {
  const found = noMentions();
  walk({ parsed, found }, node, NO_NAMES);
  return found;
}

interface Walk {
  readonly parsed: ParsedText;
  readonly found: Mentions;
}

type Names = ReadonlySet<string>;
const NO_NAMES: Names = new Set();

function walk(state: Walk, node: unknown, ctes: Names): void {
  if (Array.isArray(node)) {
    for (const item of node) walk(state, item, ctes);
    return;
  }
  if (typeof node !== 'object' || node === null) return;
  // Trees are plain objects: for…in copies nothing, and this walk is a tenth of a cold reading.
  for (const key in node) {
    const value = (node as Record<string, unknown>)[key];
    if (typeof value === 'object' && value !== null) walkField(state, key, value, ctes);
  }
}

function walkField(state: Walk, key: string, value: object, ctes: Names): void {
  switch (key) {
    case 'SelectStmt':
    case 'larg':
    case 'rarg':
      // In a set operation the arms are bare statements; in a join they are wrapped nodes.
      if (key === 'SelectStmt' || 'op' in value) walkSelect(state, value as SelectStmt, ctes);
      else walk(state, value, ctes);
      break;
    case 'relation':
      // Statements about one table (create index, analyze) name it without a wrapping node.
      if ('relname' in value) mentionTable(state, { ...(value as RangeVarLike), alias: true }, ctes);
      else walk(state, value, ctes);
      break;
    case 'RangeVar':
      mentionTable(state, value as RangeVarLike, ctes);
      break;
    case 'ColumnRef':
      mentionColumn(state, value as { fields?: Node[]; location?: number });
      break;
    case 'FuncCall':
      mentionFunction(state, value as FuncCallLike);
      walk(state, value, ctes);
      break;
    case 'SQLValueFunction':
      mentionMoment(state, value as { op?: string; location?: number });
      break;
    // Most nodes of a tree are below these, and none of them is a table, column or function.
    case 'typeName':
    case 'A_Const':
    case 'alias':
    case 'funcname':
    case 'name':
      break;
    // What does more than read: kinds that are rare.
    case 'InsertStmt':
    case 'UpdateStmt':
    case 'DeleteStmt':
    case 'MergeStmt':
    case 'intoClause':
    case 'LockingClause':
    case 'ParamRef':
      state.found.effects.push(effectOf(key, value)!);
      walk(state, value, ctes);
      break;
    default:
      walk(state, value, ctes);
  }
}

/** CTE names hide tables: all of them inside a recursive WITH, only earlier ones otherwise. */
function walkSelect(state: Walk, select: SelectStmt, outer: Names): void {
  let ctes = outer;
  const clause = select.withClause;
  if (clause) {
    const names = new Set(outer);
    const list = clause.ctes ?? [];
    if (clause.recursive)
      for (const cte of list) if ('CommonTableExpr' in cte) names.add(cte.CommonTableExpr.ctename ?? '');
    for (const cte of list) {
      if (!('CommonTableExpr' in cte)) continue;
      walk(state, cte.CommonTableExpr.ctequery, names);
      names.add(cte.CommonTableExpr.ctename ?? '');
    }
    ctes = names;
  }
  for (const key in select) {
    const value = (select as Record<string, unknown>)[key];
    if (key !== 'withClause' && typeof value === 'object' && value !== null) walkField(state, key, value, ctes);
  }
}

interface RangeVarLike {
  readonly schemaname?: string;
  readonly relname?: string;
  readonly alias?: unknown;
  readonly location?: number;
}

/** The token range of a dotted name that starts at `start`, with `parts` parts. */
export function dottedRange(text: string, start: number, parts: number): Range {
  let token: Token | undefined = nextToken(text, start);
  const from = token?.start ?? start;
  let end = token?.end ?? start;
  for (let part = 1; part < parts && token; part++) {
    const dot = nextToken(text, end);
    token = dot && nextToken(text, dot.end);
    end = token?.end ?? end;
  }
  return { start: from, end };
}

/** Where a table's name stands. Nearly always the text has it as the parser gives it, and nothing has to be scanned. */
export function tableNameRange(text: string, start: number, layer: string | undefined, name: string): Range {
  const written = layer === undefined ? name : `${layer}.${name}`;
  if (text.startsWith(written, start) && /^[a-z_0-9.]+$/.test(written)) return { start, end: start + written.length };
  return dottedRange(text, start, layer === undefined ? 1 : 2);
}

function mentionTable({ parsed, found }: Walk, range: RangeVarLike, ctes: Names): void {
  const name = range.relname ?? '';
  if (!range.schemaname && ctes.has(name)) return;
  const start = parsed.at(range.location);
  const place = tableNameRange(parsed.text, start, range.schemaname, name);
  found.tables.push({
    start: place.start,
    end: place.end,
    layer: range.schemaname,
    name,
    bare: !range.alias,
    ofColumn: false,
  });
}

function mentionColumn({ parsed, found }: Walk, ref: { fields?: Node[]; location?: number }): void {
  if (ref.fields?.length !== 3) return;
  const names = strings(ref.fields);
  const place = dottedRange(parsed.text, parsed.at(ref.location), 2);
  found.tables.push({ ...place, layer: names[0], name: names[1]!, bare: false, ofColumn: true });
}

interface FuncCallLike {
  readonly funcname?: Node[];
  readonly args?: Node[];
  readonly location?: number;
}

function mentionFunction({ parsed, found }: Walk, call: FuncCallLike): void {
  const names = strings(call.funcname);
  const start = parsed.at(call.location);
  if (names.length === 2 && names[0] === FUNCTIONS_SCHEMA) {
    found.functions.push({ ...dottedRange(parsed.text, start, 2), name: names[1]! });
  }
  const effect = effectOfCall(names.at(-1) ?? '', call.location ?? 0);
  if (effect && (names.length === 1 || names[0] !== FUNCTIONS_SCHEMA)) found.effects.push(effect);
  const moment = names.length === 1 || names[0] === 'pg_catalog' ? momentOfCall(names.at(-1)!) : undefined;
  if (moment) found.moments.push({ start, end: closingParenthesis(parsed.text, start), ...moment });
  if (names.at(-1) === 'current_setting') {
    const first = call.args?.[0];
    const setting = first && 'A_Const' in first ? first.A_Const.sval?.sval : undefined;
    if (setting?.startsWith('param.') || setting?.startsWith('each.')) {
      found.settings.push({ start, end: closingParenthesis(parsed.text, start), setting });
    }
  }
}

/** `current_date` and the like, with a precision where one is written. */
function mentionMoment({ parsed, found }: Walk, { op = '', location }: { op?: string; location?: number }): void {
  const name = momentOfValue(op);
  if (name === undefined) return;
  const start = parsed.at(location);
  const word = nextToken(parsed.text, start);
  if (!word) return;
  const open = nextToken(parsed.text, word.end);
  const end = open?.text === '(' ? closingParenthesis(parsed.text, word.end) : word.end;
  found.moments.push({ start, end, name, kind: 'time' });
}

/** The offset behind the parenthesis that closes the first one opened at or after `from`. */
function closingParenthesis(text: string, from: number): number {
  let depth = 0;
  for (let token = nextToken(text, from); token; token = nextToken(text, token.end)) {
    if (token.text === '(') depth++;
    else if (token.text === ')' && --depth === 0) return token.end;
  }
  return text.length;
}
