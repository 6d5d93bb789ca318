import type { CreateForeignTableStmt, CreateFunctionStmt, CreateStmt, Node, RangeVar, SelectStmt } from 'libpg-query';
import { parseSql, type ParsedText, type Statement } from '../sql/parser.js';
import { nameOf, nextToken, tokenize } from '../sql/tokens.js';
import type { Range } from '../sql/positions.js';
import { readContract, readOptions } from '../contract/contract.js';
import { dottedRange, FUNCTIONS_SCHEMA, mentionsIn, queryOf } from '../lineage/mentions.js';
import { readCsv } from './csv.js';
import type { Diagnostic, DiagnosticCode } from './diagnostic.js';
import type { AfterStatement, CheckQuery, Contract, Definition, IndexedFile, LoadPolicy, Query } from './model.js';
import { CHECK_OPTIONS, checkOptions, COLUMN_OPTIONS, SOURCE_COLUMN_OPTIONS, SOURCE_TABLE_OPTIONS, TABLE_OPTIONS } from './options.js';

/** Reads one file of the project, from its path and text alone. */
export function indexFile(path: string, text: string): IndexedFile {
  const file = new FileIndex(path, text);
  const [folder = '', ...rest] = path.split('/');
  if (path.endsWith('.csv')) {
    if (folder === 'reference' && rest.length) file.reference(folder);
  } else if (path.endsWith('.sql')) {
    if (file.parse()) {
      if (path === 'layers.sql') file.layersFile();
      else if (path === 'parameters.sql') file.parametersFile();
      else if (rest.length === 0)
        file.problem(
          'misplaced-file',
          file.whole(),
          'a definition stands in the folder of its layer',
          'move the file into a layer’s folder, for example staging/',
        );
      else if (folder === 'sources') file.sourcesFile();
      else if (folder === 'functions') file.functionFile();
      else if (folder === 'checks') file.checkFile();
      else if (folder === 'adhoc') file.adhocFile();
      else file.definitionFile(folder);
    } else if (rest.length && !['sources', 'functions', 'checks', 'adhoc'].includes(folder)) file.brokenDefinition(folder);
  }
  return file.done();
}

const stem = (path: string) =>
  path
    .split('/')
    .at(-1)!
    .replace(/\.(sql|csv)$/, '');

/** What is gathered while one file is read. */
class FileIndex {
  private readonly result: { -readonly [K in keyof IndexedFile]: IndexedFile[K] extends readonly (infer T)[] ? T[] : IndexedFile[K] };
  private parsed!: ParsedText;

  constructor(
    private readonly path: string,
    private readonly text: string,
  ) {
    this.result = { path, text, layers: [], parameters: [], servers: [], tables: [], functions: [], checks: [], adhoc: [], diagnostics: [] };
  }

  done(): IndexedFile {
    return this.result;
  }

  problem(code: DiagnosticCode, range: Range, message: string, hint?: string, severity: Diagnostic['severity'] = 'error'): void {
    this.result.diagnostics.push({ code, severity, path: this.path, range, message, ...(hint ? { hint } : {}) });
  }

  whole(): Range {
    const first = nextToken(this.text, 0);
    return first ? { start: first.start, end: first.end } : { start: 0, end: 0 };
  }

  parse(): boolean {
    this.parsed = parseSql(this.text);
    this.result.parsed = this.parsed;
    const { error } = this.parsed;
    if (error) this.problem('syntax', error.range, error.message);
    return !error;
  }

  private firstWord(statement: Range): Range {
    const token = nextToken(this.text, statement.start);
    return token ? { start: token.start, end: token.end } : statement;
  }

  private notAllowed(statement: Statement, what: string): void {
    this.problem('statement-not-allowed', this.firstWord(statement), `this statement is not allowed here`, what);
  }

  layersFile(): void {
    for (const statement of this.parsed.statements) {
      const { node } = statement;
      if ('CreateSchemaStmt' in node) {
        this.result.layers.push({ name: node.CreateSchemaStmt.schemaname ?? '', range: { start: statement.start, end: statement.end } });
      } else if ('CommentStmt' in node && node.CommentStmt.objtype === 'OBJECT_SCHEMA') {
        const name = node.CommentStmt.object && 'String' in node.CommentStmt.object ? node.CommentStmt.object.String.sval : undefined;
        const i = this.result.layers.findIndex((l) => l.name === name);
        if (i >= 0) this.result.layers[i] = { ...this.result.layers[i]!, comment: node.CommentStmt.comment };
      } else this.notAllowed(statement, 'layers.sql holds create schema and comment on schema');
    }
  }

  parametersFile(): void {
    for (const statement of this.parsed.statements) {
      const set = 'VariableSetStmt' in statement.node ? statement.node.VariableSetStmt : undefined;
      if (!set?.name?.startsWith('param.')) {
        this.notAllowed(statement, "parameters.sql holds set param.NAME = 'default'");
        continue;
      }
      const value = (set.args ?? []).map(constantText).join(', ');
      this.result.parameters.push({ name: set.name.slice(6), value, path: this.path, range: { start: statement.start, end: statement.end } });
    }
  }

  sourcesFile(): void {
    const comments = this.comments();
    for (const statement of this.parsed.statements) {
      const { node } = statement;
      if ('CreateForeignServerStmt' in node) {
        const server = node.CreateForeignServerStmt;
        this.result.servers.push({
          name: server.servername ?? '',
          wrapper: server.fdwname ?? '',
          path: this.path,
          range: { start: statement.start, end: statement.end },
          options: readOptions(this.parsed, server.options ?? []),
        });
      } else if ('CreateForeignTableStmt' in node) this.sourceTable(statement, node.CreateForeignTableStmt, comments);
      else if (!('CommentStmt' in node)) this.notAllowed(statement, 'sources/ holds create server, create foreign table and comment on');
    }
  }

  private sourceTable(statement: Statement, foreign: CreateForeignTableStmt, comments: Comments): void {
    const base = foreign.base ?? (foreign as unknown as CreateStmt);
    const relation: RangeVar = (base as CreateStmt).relation ?? {};
    const name = relation.relname ?? '';
    const nameRange = dottedRange(this.text, this.parsed.at(relation.location), relation.schemaname ? 2 : 1);
    if (!relation.schemaname) this.problem('table-without-layer', nameRange, `${name} has no layer`, `write landing.${name}`);
    const layer = relation.schemaname ?? 'landing';
    const contract = withComments(
      readContract(this.parsed, name, (base as CreateStmt).tableElts ?? [], foreign.options ?? [], { start: statement.start, end: statement.end }),
      comments,
      `${layer}.${name}`,
    );
    this.result.diagnostics.push(...checkOptions(this.path, contract.options, SOURCE_TABLE_OPTIONS, 'a source table'));
    this.columnOptions(contract, SOURCE_COLUMN_OPTIONS, 'a source column');
    this.result.tables.push({
      kind: 'source',
      layer,
      name,
      fullName: `${layer}.${name}`,
      path: this.path,
      nameRange,
      server: foreign.servername ?? '',
      contract,
      ...optional('comment', comments.tables.get(`${layer}.${name}`)),
    });
  }

  private columnOptions(contract: Contract, allowed: Parameters<typeof checkOptions>[2], what: string): void {
    for (const column of contract.columns) {
      const options = new Map(Object.entries(column.options).map(([k, value]) => [k, { value, range: column.range }]));
      this.result.diagnostics.push(...checkOptions(this.path, options, allowed, what));
    }
    const seen = new Set<string>();
    for (const column of contract.columns) {
      if (seen.has(column.name)) this.problem('duplicate-column', column.range, `column ${column.name} is declared twice`);
      seen.add(column.name);
    }
  }

  functionFile(): void {
    for (const statement of this.parsed.statements) {
      if (!('CreateFunctionStmt' in statement.node)) {
        if (!('CommentStmt' in statement.node)) this.notAllowed(statement, 'functions/ holds one create function a file');
        continue;
      }
      const create: CreateFunctionStmt = statement.node.CreateFunctionStmt;
      const names = (create.funcname ?? []).flatMap((n) => ('String' in n ? [n.String.sval ?? ''] : []));
      const nameRange = this.rangeAfterWord(statement, ['function', 'procedure'], names.length);
      const name = names.at(-1) ?? '';
      if (names.length !== 2 || names[0] !== FUNCTIONS_SCHEMA || name !== stem(this.path)) {
        this.problem('name-mismatch', nameRange, `the file is ${this.path}, the function ${names.join('.')}`, `name it functions.${stem(this.path)}`);
      }
      const { tables, functions } = mentionsIn(this.parsed, create.sql_body ?? {});
      this.result.functions.push({ name, path: this.path, range: { start: statement.start, end: statement.end }, nameRange, tables, functions });
    }
  }

  /** The dotted name that follows the first of these words. */
  private rangeAfterWord(statement: Range, words: readonly string[], parts: number): Range {
    const token = tokenize(this.text, statement.start, statement.end).find((t) => t.kind === 'word' && words.includes(t.text.toLowerCase()));
    return token ? dottedRange(this.text, token.end, parts) : this.firstWord(statement);
  }

  checkFile(): void {
    const comments = this.comments();
    for (const statement of this.parsed.statements) {
      const { node } = statement;
      if ('CommentStmt' in node) continue;
      if ('SelectStmt' in node) {
        this.pushCheck(stem(this.path), this.firstWord(statement), queryOf(this.parsed, node.SelectStmt, statement), new Map(), comments);
        continue;
      }
      const select = 'ViewStmt' in node && node.ViewStmt.query && 'SelectStmt' in node.ViewStmt.query ? node.ViewStmt.query.SelectStmt : undefined;
      if (!('ViewStmt' in node) || !select) {
        this.notAllowed(statement, 'checks/ holds one create view checks.NAME as select … a file');
        continue;
      }
      const view = node.ViewStmt.view ?? {};
      const nameRange = dottedRange(this.text, this.parsed.at(view.location), view.schemaname ? 2 : 1);
      if (view.schemaname !== 'checks' || view.relname !== stem(this.path)) {
        this.problem(
          'name-mismatch',
          nameRange,
          `the file is ${this.path}, the check ${view.schemaname ?? ''}.${view.relname ?? ''}`,
          `name it checks.${stem(this.path)}`,
        );
      }
      const options = readOptions(this.parsed, node.ViewStmt.options ?? []);
      this.result.diagnostics.push(...checkOptions(this.path, options, CHECK_OPTIONS, 'a check'));
      this.pushCheck(stem(this.path), nameRange, queryOf(this.parsed, select, this.rangeAfterAs(statement)), options, comments);
    }
    if (this.result.checks.length === 0 && this.result.diagnostics.length === 0)
      this.problem('no-query', this.whole(), 'the check has no query', 'write select … that returns the rows that should not exist');
  }

  private pushCheck(name: string, nameRange: Range, query: Query, options: CheckQuery['options'], comments: Comments): void {
    const comment = comments.tables.get(`checks.${name}`);
    this.result.checks.push({ name, path: this.path, nameRange, query, options, ...optional('comment', comment) });
  }

  adhocFile(): void {
    const [statement, ...more] = this.parsed.statements;
    if (!statement) return;
    if (!('SelectStmt' in statement.node) || more.length) this.notAllowed(more[0] ?? statement, 'an ad hoc query is one select');
    else this.result.adhoc.push({ name: stem(this.path), path: this.path, query: queryOf(this.parsed, statement.node.SelectStmt, statement) });
  }

  /** The text behind the first AS at depth 0 of `create view|table … as`. */
  private rangeAfterAs(statement: Range): Range {
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

  reference(layer: string): void {
    const csv = readCsv(this.text);
    const name = stem(this.path);
    for (const p of csv.problems) this.problem('bad-reference-file', this.lineRange(p.line), p.message, `line ${p.line} of ${this.path}`);
    if (csv.header.length === 0) this.problem('bad-reference-file', { start: 0, end: 0 }, 'the file has no header row', 'the first line names the columns');
    const seen = new Set<string>();
    for (const column of csv.header) {
      if (column === '' || seen.has(column))
        this.problem('bad-reference-file', this.lineRange(1), column === '' ? 'a column has no name' : `column ${column} stands twice`);
      seen.add(column);
    }
    this.result.tables.push({
      kind: 'reference',
      layer,
      name,
      fullName: `${layer}.${name}`,
      path: this.path,
      csvPath: this.path,
      nameRange: this.lineRange(1),
      header: csv.header,
    });
  }

  private lineRange(line: number): Range {
    const lines = this.text.split('\n');
    const start = lines.slice(0, line - 1).reduce((sum, l) => sum + l.length + 1, 0);
    return { start, end: start + (lines[line - 1]?.length ?? 0) };
  }

  /** A definition that does not parse still is a table, so that its readers are not called wrong. */
  brokenDefinition(layer: string): void {
    this.pushDefinition({ layer, policy: 'view', nameRange: this.whole() });
  }

  definitionFile(layer: string): void {
    const state: DefinitionState = { layer, before: [], after: [] };
    for (const statement of this.parsed.statements) this.definitionStatement(statement, state);
    if (layer === 'reference') return this.referenceContract(state);
    if (!state.query && this.result.diagnostics.length === 0) {
      this.problem('no-query', this.whole(), 'the definition has no query', 'write a select that makes the table’s rows');
    }
    const option = state.contract?.options.get('load');
    const declared = option && (option.value as LoadPolicy);
    this.pushDefinition({ ...state, policy: state.form ?? declared ?? (state.contract ? 'rebuild' : 'view') });
  }

  private pushDefinition(state: Partial<DefinitionState> & { layer: string; policy: LoadPolicy }): void {
    const name = stem(this.path);
    const fullName = `${state.layer}.${name}`;
    const comments = this.comments();
    const contract = state.contract && withComments(state.contract, comments, fullName);
    if (contract) {
      this.result.diagnostics.push(...checkOptions(this.path, contract.options, TABLE_OPTIONS, 'a table'));
      this.columnOptions(contract, COLUMN_OPTIONS, 'a column');
    }
    const definition: Definition = {
      kind: 'definition',
      layer: state.layer,
      name,
      fullName,
      path: this.path,
      nameRange: state.nameRange ?? this.whole(),
      policy: state.policy,
      before: state.before ?? [],
      after: state.after ?? [],
      columnComments: new Map([...comments.columns].flatMap(([key, text]) => (key.startsWith(fullName + '.') ? [[key.slice(fullName.length + 1), text]] : []))),
      ...optional('query', state.query),
      ...optional('contract', contract),
      ...optional('comment', comments.tables.get(fullName)),
    };
    this.result.tables.push(definition);
  }

  /** `reference/x.sql` holds the contract of `reference/x.csv`; the two are joined when the project is resolved. */
  private referenceContract(state: DefinitionState): void {
    if (state.query) this.problem('statement-not-allowed', state.query, 'a reference table has no query', 'its rows are in the CSV file beside this contract');
    if (!state.contract) return;
    this.pushDefinition({ ...state, query: undefined, policy: 'rebuild' });
  }

  private definitionStatement(statement: Statement, state: DefinitionState): void {
    const { node } = statement;
    if ('SelectStmt' in node) this.takeQuery(state, node.SelectStmt, statement, undefined);
    else if ('CreateStmt' in node) this.takeContract(state, node.CreateStmt, statement);
    else if ('ViewStmt' in node && node.ViewStmt.query && 'SelectStmt' in node.ViewStmt.query) {
      this.takeName(state, node.ViewStmt.view ?? {});
      if (node.ViewStmt.aliases?.length) this.notAllowed(statement, 'name the columns in the query');
      this.takeQuery(state, node.ViewStmt.query.SelectStmt, this.rangeAfterAs(statement), 'view');
    } else if (
      'CreateTableAsStmt' in node &&
      node.CreateTableAsStmt.query &&
      'SelectStmt' in node.CreateTableAsStmt.query &&
      node.CreateTableAsStmt.objtype !== 'OBJECT_MATVIEW'
    ) {
      this.takeName(state, node.CreateTableAsStmt.into?.rel ?? {});
      this.takeQuery(state, node.CreateTableAsStmt.query.SelectStmt, this.rangeAfterAs(statement), 'rebuild');
    } else if ('VariableSetStmt' in node) {
      if (state.contract || state.query) this.notAllowed(statement, 'set stands before the contract and the query');
      state.before.push(statement);
    } else if ('IndexStmt' in node || 'GrantStmt' in node || 'VacuumStmt' in node) this.takeAfter(state, statement);
    else if (!('CommentStmt' in node))
      this.notAllowed(statement, 'a definition holds a contract, a query, comments, and after them create index, grant and analyze');
  }

  private takeName(state: DefinitionState, relation: RangeVar): void {
    const range = dottedRange(this.text, this.parsed.at(relation.location), relation.schemaname ? 2 : 1);
    const expected = `${state.layer}.${stem(this.path)}`;
    const written = relation.schemaname ? `${relation.schemaname}.${relation.relname ?? ''}` : (relation.relname ?? '');
    state.nameRange = range;
    if (written !== expected) this.problem('name-mismatch', range, `the file is ${this.path}, the table ${written}`, `write ${expected}, or rename the file`);
  }

  private takeContract(state: DefinitionState, create: CreateStmt, statement: Statement): void {
    if (state.contract)
      return this.problem('statement-not-allowed', this.firstWord(statement), 'the definition has a second contract', 'one file makes one table');
    this.takeName(state, create.relation ?? {});
    state.contract = readContract(this.parsed, stem(this.path), create.tableElts ?? [], create.options ?? [], { start: statement.start, end: statement.end });
  }

  private takeQuery(state: DefinitionState, select: SelectStmt, range: Range, form: LoadPolicy | undefined): void {
    if (state.query) return this.problem('statement-not-allowed', this.firstWord(range), 'the definition has a second query', 'one file makes one table');
    state.query = queryOf(this.parsed, select, range);
    if (form) state.form = form;
  }

  private takeAfter(state: DefinitionState, statement: Statement): void {
    if (!state.query && this.path.split('/')[0] !== 'reference') this.notAllowed(statement, 'create index, grant and analyze stand after the query');
    const { node } = statement;
    const { tables } = mentionsIn(this.parsed, node);
    const kind = 'IndexStmt' in node ? 'index' : 'GrantStmt' in node ? 'grant' : 'analyze';
    const own = `${state.layer}.${stem(this.path)}`;
    for (const t of tables) {
      if (`${t.layer ?? ''}.${t.name}` !== own)
        this.problem('statement-not-allowed', t, `this statement is about ${t.layer ?? ''}.${t.name}`, `only ${own} may be changed here`);
    }
    const indexName = 'IndexStmt' in node && node.IndexStmt.idxname ? this.indexNameRange(statement, node.IndexStmt.idxname) : undefined;
    state.after.push({ kind, start: statement.start, end: statement.end, tables, ...optional('indexName', indexName) });
  }

  private indexNameRange(statement: Range, name: string): AfterStatement['indexName'] {
    const token = tokenize(this.text, statement.start, statement.end).find((t) => (t.kind === 'word' || t.kind === 'quoted') && nameOf(t) === name);
    return token && { start: token.start, end: token.end, name };
  }

  private comments(): Comments {
    const comments: Comments = { tables: new Map(), columns: new Map(), constraints: new Map() };
    for (const { node } of this.parsed?.statements ?? []) {
      if (!('CommentStmt' in node)) continue;
      const { objtype, object, comment = '' } = node.CommentStmt;
      const items = object && 'List' in object ? (object.List.items ?? []) : [];
      const name = items.flatMap((n) => ('String' in n ? [n.String.sval ?? ''] : [])).join('.');
      if (objtype === 'OBJECT_COLUMN') comments.columns.set(name, comment);
      else if (objtype === 'OBJECT_TABCONSTRAINT') comments.constraints.set(name, comment);
      else if (['OBJECT_TABLE', 'OBJECT_VIEW', 'OBJECT_FOREIGN_TABLE'].includes(objtype ?? '')) comments.tables.set(name, comment);
    }
    return comments;
  }
}

interface DefinitionState {
  layer: string;
  form?: LoadPolicy;
  nameRange?: Range;
  contract?: Contract;
  query?: Query;
  before: Statement[];
  after: AfterStatement[];
}

/** Comments of a file by full name: `layer.table`, `layer.table.column`, `layer.table.constraint`. */
interface Comments {
  readonly tables: Map<string, string>;
  readonly columns: Map<string, string>;
  readonly constraints: Map<string, string>;
}

function withComments(contract: Contract, comments: Comments, fullName: string): Contract {
  return {
    ...contract,
    columns: contract.columns.map((c) => ({ ...c, ...optional('comment', comments.columns.get(`${fullName}.${c.name}`)) })),
    constraints: contract.constraints.map((c) => ({ ...c, ...optional('comment', comments.constraints.get(`${fullName}.${c.name}`)) })),
  };
}

function optional<K extends string, V>(key: K, value: V | undefined): Partial<Record<K, V>> {
  return value === undefined ? {} : ({ [key]: value } as Record<K, V>);
}

function constantText(node: Node): string {
  if (!('A_Const' in node)) return '';
  const c = node.A_Const;
  return c.sval?.sval ?? c.fval?.fval ?? (c.ival ? String(c.ival.ival ?? 0) : String(c.boolval?.boolval ?? false));
}
