import type { ColumnRef, JoinExpr, Node, ResTarget, SelectStmt } from 'libpg-query';
import { QueryScopes } from '../columns/columns.js';
import type { Around } from '../columns/reader.js';
import type { FromItem } from '../columns/scope.js';
import type { Field, Value } from '../columns/value.js';
import { csvField, headerFields } from '../index/csv.js';
import { noteLinks } from '../index/note-links.js';
import { elementsOf, typeRange } from '../index/elements.js';
import { COLUMN_OPTIONS, TABLE_OPTIONS, SOURCE_TABLE_OPTIONS, type OptionRule } from '../language/options.js';
import { keepsRows } from '../language/policies.js';
import { columnWith } from '../language/roles.js';
import type { Contract, Definition, Project, Table } from '../model/project.js';
import { expressionRange } from '../sql/expression-range.js';
import { strings } from '../sql/nodes.js';
import { literal } from '../sql/quote.js';
import { byteToCharacter, type Range } from '../sql/positions.js';
import { nameOf, nextToken, tokenize, type Token } from '../sql/tokens.js';
import {
  aroundOf,
  dottedNames,
  queriesOf,
  rangeOf,
  valueOf,
  wordsIn,
  type PlacedQuery,
  type RenameEdits,
} from './rename-edits.js';

interface ColumnRenaming {
  readonly table: string;
  readonly column: string;
  readonly to: string;
}

/** A column where it is declared and made, and wherever it is read; its values move along by `was`. */
export function renameColumnEdits(project: Project, of: ColumnRenaming, edits: RenameEdits): void {
  const table = project.tables.get(of.table);
  if (!table || !project.columns.get(of.table)?.some((c) => c.name === of.column))
    return void edits.obstacles.push({ path: '', message: `there is no column ${of.table}.${of.column}` });
  if (table.contract) new ContractRename(project, table, of, edits).own();
  if (table.kind === 'reference') renameHeader(project, table, of, edits);
  if (table.kind === 'definition') renameOutput(project, table, of, edits);
  renameInNotes(project, of, edits);
  // Of a fan-out all tables have it, and a query that takes all columns hands it on.
  const open = [...project.tables.values()].filter(
    (t) => t === table || (t.kind === 'definition' && t.path === table.path),
  );
  for (let next = open.pop(); next; next = open.pop()) {
    if (edits.renamed.has(next.fullName)) continue;
    edits.renamed.add(next.fullName);
    open.push(...renameInReaders(project, { ...of, table: next.fullName }, edits));
  }
}

/** `[layer.table.column]` in notes. */
function renameInNotes(project: Project, { table, column, to }: ColumnRenaming, edits: RenameEdits): void {
  for (const { path, text } of project.files.values())
    for (const link of path.endsWith('.md') ? noteLinks(text) : [])
      if (link.name === `${table}.${column}`)
        edits.add(path, { start: link.end - column.length, end: link.end, text: to });
}

/** @returns the tables that hand the column on as it is */
function renameInReaders(project: Project, of: ColumnRenaming, edits: RenameEdits): Table[] {
  const table = project.tables.get(of.table)!;
  const around = aroundOf(project);
  const [layer, name] = of.table.split('.') as [string, string];
  const field = around.relation(layer, name)?.fields?.find((f) => f.name === of.column);
  const handing: Table[] = [];
  if (field)
    for (const query of queriesOf(project))
      if (query.query.tables.some((t) => t.layer === layer && t.name === name)) {
        const handsOn = new ReaderRename(project, query, { of, field, around }, edits).edit();
        if (handsOn && query.table && !query.table.contract) handing.push(query.table);
      }
  for (const other of project.tables.values()) {
    if (other !== table && other.contract) new ContractRename(project, other, of, edits).references();
    renameEach(project, other, of, edits);
  }
  for (const f of project.functions.values())
    if (f.tables.some((t) => t.layer === layer && t.name === name) && hasWord(project, f.path, f.range, of.column))
      edits.obstacles.push({ path: f.path, message: `functions.${f.name} reads ${of.table}: change it by hand first` });
  return handing;
}

const wordTokens = (text: string, { start, end }: Range): Token[] =>
  [...tokenize(text, start, end)].filter((t) => t.kind !== 'comment');

const hasWord = (project: Project, path: string, range: Range, word: string) =>
  wordTokens(project.files.get(path)!.text, range).some((t) => isNamed(t, word));

const isNamed = (token: Token | undefined, name: string): boolean =>
  token !== undefined && (token.kind === 'word' || token.kind === 'quoted') && nameOf(token) === name;

// Contracts --------------------------------------------------------------------------------------

const CONSTRAINTS = new Set(['constraint', 'primary', 'unique', 'check', 'foreign', 'exclude', 'like']);

class ContractRename {
  private readonly text: string;
  private readonly contract: Contract;

  constructor(
    project: Project,
    private readonly table: Table,
    private readonly of: ColumnRenaming,
    private readonly edits: RenameEdits,
  ) {
    this.text = project.files.get(table.path)!.text;
    this.contract = table.contract!;
  }

  /** In the contract of the column's own table. */
  own(): void {
    for (const element of this.elements()) this.element(element, true);
    const rules: Readonly<Record<string, OptionRule>> =
      this.table.kind === 'source' ? SOURCE_TABLE_OPTIONS : TABLE_OPTIONS;
    for (const [name, { range }] of this.contract.options)
      if (['columns', 'condition'].includes(rules[name]?.value.kind ?? '')) this.words(valueOf(this.text, range));
    if (this.table.kind === 'definition') for (const { start, end } of this.table.after) this.index({ start, end });
    // `comment on column layer.table.column`.
    for (const { name } of dottedNames(this.text, this.of.table, [])) {
      const [dot, column] = wordTokens(this.text, { start: name.end, end: this.text.length });
      if (dot?.text === '.' && isNamed(column, this.of.column)) this.replace(column!);
    }
  }

  /** In the contract of another table: what its constraints reference. */
  references(): void {
    if (!this.contract.constraints.some((c) => c.references?.table === this.of.table)) return;
    for (const element of this.elements()) this.element(element, false);
  }

  private elements(): Range[] {
    return elementsOf(this.text, this.contract.range);
  }

  private element(element: Range, isOwn: boolean): void {
    const tokens = wordTokens(this.text, element);
    const isColumn = !CONSTRAINTS.has(nameOf(tokens[0]!)) || tokens[0]!.kind === 'quoted';
    const type = isColumn ? typeRange(this.text, element) : undefined;
    if (isColumn && isOwn && isNamed(tokens[0], this.of.column)) {
      this.replace(tokens[0]!);
      this.formerName(tokens, type);
    }
    for (let i = isColumn ? 1 : 0; i < tokens.length; i++) {
      const token = tokens[i]!;
      if (type && token.start < type.end && token.start >= type.start) continue;
      if (isNamed(token, 'constraint')) i++;
      else if (isNamed(token, 'references')) i = this.referenced(tokens, i + 1);
      else if (isNamed(token, 'options') && tokens[i + 1]?.text === '(') i = this.options(tokens, i + 2, isOwn);
      else if (isOwn && isNamed(token, this.of.column) && tokens[i + 1]?.text !== '(') this.replace(token);
    }
  }

  /** `layer.table (columns)`; the columns are that table's. @returns the place of its last token */
  private referenced(tokens: readonly Token[], from: number): number {
    const full = `${nameOf(tokens[from]!)}.${tokens[from + 2] ? nameOf(tokens[from + 2]!) : ''}`;
    let i = from + 2;
    if (tokens[i + 1]?.text !== '(') return i;
    for (i += 2; i < tokens.length && tokens[i]!.text !== ')'; i++)
      if (full === this.of.table && isNamed(tokens[i], this.of.column)) this.replace(tokens[i]!);
    return i;
  }

  /** `name 'value', …`; some hold names of columns. @returns the place of the bracket that closes them */
  private options(tokens: readonly Token[], from: number, isOwn: boolean): number {
    const rules: Readonly<Record<string, OptionRule>> = COLUMN_OPTIONS;
    let i = from;
    for (; i < tokens.length && tokens[i]!.text !== ')'; i++) {
      const [name, value] = [tokens[i]!, tokens[i + 1]];
      if (isOwn && name.kind === 'word' && value?.kind === 'string' && rules[nameOf(name)]?.value.kind === 'columns')
        this.words(value);
    }
    return i;
  }

  /** A stored table's values move along; a source's column keeps its name in the system. */
  private formerName(tokens: readonly Token[], type: Range | undefined): void {
    const option = this.table.kind === 'source' ? 'column_name' : 'was';
    if (this.table.kind === 'reference' || (this.table.kind === 'definition' && !remembers(this.table))) return;
    const at = tokens.findIndex((t, i) => isNamed(t, 'options') && tokens[i + 1]?.text === '(');
    const said = at < 0 ? -1 : tokens.findIndex((t, i) => i > at && isNamed(t, option));
    if (said >= 0) {
      // Named back: production may have either name by now.
      const former = tokens[said + 1];
      if (option === 'was' && former?.text === literal(this.of.to))
        this.edits.add(this.table.path, { ...rangeOf(former), text: literal(this.of.column) });
      return;
    }
    const value = `${option} '${this.of.column.replaceAll("'", "''")}'`;
    const place = at >= 0 ? tokens[at + 1]!.end : (type ?? tokens[0]!).end;
    this.edits.add(this.table.path, { start: place, end: place, text: at >= 0 ? `${value}, ` : ` options (${value})` });
  }

  /** The columns of an index, behind the table's name. */
  private index(range: Range): void {
    const tokens = wordTokens(this.text, range);
    const open = tokens.findIndex((t) => t.text === '(');
    for (const [i, token] of tokens.entries())
      if (open >= 0 && i > open && isNamed(token, this.of.column) && tokens[i + 1]?.text !== '(') this.replace(token);
  }

  private words(range: Range): void {
    this.edits.add(this.table.path, ...wordsIn(this.text, range, new Map([[this.of.column, this.of.to]])));
  }

  private replace(token: Token): void {
    this.edits.add(this.table.path, { ...rangeOf(token), text: this.of.to });
  }
}

/** Whether a table keeps rows or keys from load to load: a release has to move them along. */
const remembers = (table: Definition): boolean =>
  keepsRows(table) || (table.contract !== undefined && columnWith(table.contract, 'surrogate key') !== undefined);

function renameHeader(
  project: Project,
  table: Extract<Table, { kind: 'reference' }>,
  of: ColumnRenaming,
  edits: RenameEdits,
): void {
  const field = headerFields(project.files.get(table.csvPath)!.text)[table.header.indexOf(of.column)];
  if (field) edits.add(table.csvPath, { ...field, text: csvField(of.to) });
}

/** What is made for each row of a reference table: its columns are named in a schema's pattern and as settings. */
function renameEach(project: Project, table: Table, of: ColumnRenaming, edits: RenameEdits): void {
  if (table.kind !== 'definition' || table.contract?.options.get('for_each')?.value.trim() !== of.table) return;
  const { text } = project.files.get(table.path)!;
  const names = new Map([[of.column, of.to]]);
  const pattern = table.contract.options.get('each_schema')?.range;
  if (pattern) edits.add(table.path, ...wordsIn(text, valueOf(text, pattern), names));
  for (const setting of table.query?.settings ?? [])
    if (setting.setting === `each.${of.column}`) edits.add(table.path, ...wordsIn(text, setting, names));
}

// The query that makes it --------------------------------------------------------------------------

/** The output column of the table's own query. */
function renameOutput(project: Project, table: Definition, of: ColumnRenaming, edits: RenameEdits): void {
  if (!table.query) return;
  let select: SelectStmt = table.query.select;
  while (select.larg) select = select.larg;
  const around = aroundOf(project);
  const scopes = new QueryScopes(table.query.select, around);
  const columns = scopes.columns(select);
  const targets = (select.targetList ?? []).flatMap((t) => ('ResTarget' in t ? [t.ResTarget] : []));
  const { text } = project.files.get(table.path)!;
  const at = byteToCharacter(text);
  const target = targets.find((t) => nameOfTarget(t) === of.column);
  if (!target) {
    if (!columns || columns.includes(of.column))
      edits.obstacles.push({
        path: table.path,
        message: `the query takes ${of.column} with *: write its columns out first`,
      });
    return;
  }
  const { end } = expressionRange(text, at(target.location ?? 0), of.column);
  const first = nextToken(text, end);
  const name = isNamed(first, 'as') ? nextToken(text, first!.end) : first;
  const isPlain = target.name === undefined;
  const isOfFrom = (select.fromClause ?? []).some((f) => scopes.item(f).bare.some((b) => b.name === of.column));
  if (!isPlain) renameSorted(table, { text, column: of.column, to: of.to, isOfFrom }, edits);
  if (target.name !== undefined && isNamed(name, of.column)) edits.add(table.path, { ...rangeOf(name!), text: of.to });
  else if (target.name === undefined) edits.add(table.path, { start: end, end, text: ` as ${of.to}` });
  else edits.obstacles.push({ path: table.path, message: `the place of ${of.column} in the query is not clear` });
}

/** Names of the output in ORDER BY, GROUP BY and DISTINCT ON; in GROUP BY a column of FROM comes first. */
function renameSorted(
  { path, query }: Definition,
  {
    text,
    column,
    to,
    isOfFrom,
  }: { readonly text: string; readonly column: string; readonly to: string; readonly isOfFrom: boolean },
  edits: RenameEdits,
): void {
  const at = byteToCharacter(text);
  let select: SelectStmt | undefined = query!.select;
  for (; select; select = select.larg) {
    const nodes = [
      ...(select.sortClause ?? []).map((s) => ('SortBy' in s ? s.SortBy.node : undefined)),
      ...(select.distinctClause ?? []),
      ...(isOfFrom ? [] : (select.groupClause ?? [])),
    ];
    for (const node of nodes) {
      if (!node || !('ColumnRef' in node) || strings(node.ColumnRef.fields).join() !== column) continue;
      const token = nextToken(text, at(node.ColumnRef.location ?? 0))!;
      edits.add(path, { ...rangeOf(token), text: to });
    }
  }
}

function nameOfTarget({ name, val }: ResTarget): string | undefined {
  if (name !== undefined) return name;
  return val && 'ColumnRef' in val ? strings(val.ColumnRef.fields).at(-1) : undefined;
}

// Queries that read it -----------------------------------------------------------------------------

interface Reading {
  readonly of: ColumnRenaming;
  /** The very column, by which readers' names are told apart. */
  readonly field: Field;
  readonly around: Around;
}

class ReaderRename {
  private readonly text: string;
  private readonly at: (location: number) => number;
  /** Columns that USING merged, with what they are written as once it is ON. */
  private readonly merged = new Map<Value, string>();

  constructor(
    project: Project,
    private readonly query: PlacedQuery,
    private readonly reading: Reading,
    private readonly edits: RenameEdits,
  ) {
    this.text = project.files.get(query.path)!.text;
    this.at = byteToCharacter(this.text);
  }

  /** @returns whether the query hands the column on as it is */
  edit(): boolean {
    const { select } = this.query.query;
    const { of, field, around } = this.reading;
    const scopes = new QueryScopes(select, around);
    this.usings(select, scopes);
    const unnamed = unnamedTargets(select);
    // The table's own output bears the new name already.
    const own = this.query.table?.fullName === of.table ? outputLocations(select) : new Set<number>();
    for (const { location, parts, value } of scopes.mentions) {
      const written = this.merged.get(value);
      if (value !== field && written === undefined) continue;
      const tokens = wordTokens(this.text, { start: this.at(location), end: this.text.length }).slice(
        0,
        parts.length * 2 - 1,
      );
      const name = tokens.at(-1)!;
      if (!isNamed(name, of.column)) continue;
      const keeps = unnamed.has(location) && !own.has(location) ? ` as ${of.column}` : '';
      if (written !== undefined && parts.length === 1) this.replace(rangeOf(name), `${written}${keeps}`);
      else if (value === field) this.replace(rangeOf(name), `${of.to}${keeps}`);
    }
    return scopes.handsOn(select, field);
  }

  private replace(range: Range, text: string): void {
    this.edits.add(this.query.path, { ...range, text });
  }

  /** USING needs one name on both sides: it becomes ON. */
  private usings(select: SelectStmt, scopes: QueryScopes): void {
    const { of } = this.reading;
    const joins = joinsOf(select).filter((j) => strings(j.JoinExpr.usingClause).join() === of.column);
    const places = this.usingPlaces();
    if (joins.length === 0 || joins.length !== places.length) return;
    for (const [i, join] of joins.entries()) {
      const { larg, rarg, jointype } = join.JoinExpr;
      const [left, right] = [this.side(scopes.item(larg!)), this.side(scopes.item(rarg!))];
      if (!left || !right || !(left.isRenamed || right.isRenamed) || jointype === 'JOIN_FULL') continue;
      this.replace(places[i]!, `on ${left.text} = ${right.text}`);
      const merged = scopes.item(join).bare.find((f) => f.name === of.column);
      if (merged) this.merged.set(merged, jointype === 'JOIN_RIGHT' ? right.text : left.text);
    }
  }

  /** How a side of a join writes the column. */
  private side(item: FromItem): { readonly text: string; readonly isRenamed: boolean } | undefined {
    const { of, field } = this.reading;
    const bare = item.bare.find((f) => f.name === of.column);
    const before = bare && this.merged.get(bare);
    if (before !== undefined) return { text: before, isRenamed: true };
    const range = bare && item.ranges.find((r) => r.fields?.includes(bare));
    return range && range.name !== ''
      ? { text: `${range.name}.${bare === field ? of.to : of.column}`, isRenamed: bare === field }
      : undefined;
  }

  /** Where `using (column)` stands, in the order of the text. */
  private usingPlaces(): Range[] {
    const tokens = wordTokens(this.text, this.query.query);
    return tokens.flatMap((token, i) => {
      const [open, name, close] = [tokens[i + 1], tokens[i + 2], tokens[i + 3]];
      return isNamed(token, 'using') &&
        open?.text === '(' &&
        isNamed(name, this.reading.of.column) &&
        close?.text === ')'
        ? [{ start: token.start, end: close.end }]
        : [];
    });
  }
}

type Join = { readonly JoinExpr: JoinExpr };

/** The joins of a tree in the order in which their conditions are written. */
function joinsOf(tree: unknown): Join[] {
  if (Array.isArray(tree)) return tree.flatMap(joinsOf);
  if (typeof tree !== 'object' || tree === null) return [];
  const node = tree as Node;
  if ('JoinExpr' in node)
    return [...joinsOf(node.JoinExpr.larg), ...joinsOf(node.JoinExpr.rarg), node, ...joinsOf(node.JoinExpr.quals)];
  // WITH comes before what reads it, FROM before WHERE, in the text as well.
  const { withClause, targetList, fromClause, ...rest } = tree as SelectStmt;
  return [withClause, targetList, fromClause, ...Object.values(rest)].flatMap(joinsOf);
}

/** Where columns stand that are taken under their own name. */
function unnamedTargets(tree: unknown): Set<number> {
  const found = new Set<number>();
  const walk = (node: unknown): void => {
    if (Array.isArray(node)) return node.forEach(walk);
    if (typeof node !== 'object' || node === null) return;
    const target = (node as { ResTarget?: ResTarget }).ResTarget;
    if (target && target.name === undefined && target.val && 'ColumnRef' in target.val)
      found.add((target.val.ColumnRef as ColumnRef).location ?? 0);
    Object.values(node).forEach(walk);
  };
  walk(tree);
  return found;
}

/** Where the columns of the first arm stand: those that name the output. */
function outputLocations(select: SelectStmt): Set<number> {
  let first = select;
  while (first.larg) first = first.larg;
  return new Set(
    (first.targetList ?? []).flatMap((t) =>
      'ResTarget' in t && t.ResTarget.val && 'ColumnRef' in t.ResTarget.val
        ? [t.ResTarget.val.ColumnRef.location ?? 0]
        : [],
    ),
  );
}
