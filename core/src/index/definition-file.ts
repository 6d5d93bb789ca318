import type { LoadPolicy } from '../model/load-policy.js';
import { LOAD_POLICIES, DEFAULT_POLICY } from '../language/policies.js';
import type { CreateStmt, Node, RangeVar, SelectStmt } from 'libpg-query';
import { readContract } from './contract.js';
import { tableNameRange, mentionsIn } from './mentions.js';
import type { Statement } from '../sql/parser.js';
import type { Range } from '../sql/positions.js';
import { nameOf, tokenize } from '../sql/tokens.js';
import { optional, withComments, type FileReader } from './file-reader.js';
import {
  aboutOtherTable,
  definitionWithoutQuery,
  optionWithoutContract,
  otherName,
  queryOfReference,
  secondContract,
  secondQuery,
} from './messages.js';
import type { AfterStatement, Contract, Definition, Query, Writable } from '../model/project.js';
import { checkOptions, COLUMN_OPTIONS, TABLE_OPTIONS } from '../language/options.js';

interface DefinitionState {
  layer: string;
  /** Whether all statements could be read: where one could not, nothing is said to be missing. */
  isSound: boolean;
  form?: LoadPolicy;
  nameRange?: Range;
  contract?: Contract;
  query?: Query;
  before: Range[];
  after: AfterStatement[];
}

/** A definition of which a statement does not parse still is a table, with what the others say, so that its readers are not called wrong. */
export function definitionFile(file: FileReader, layer: string, { isSound }: { readonly isSound: boolean }): void {
  const state: DefinitionState = { layer, isSound, before: [], after: [] };
  for (const statement of file.parsed.statements) definitionStatement(file, statement, state);
  if (layer === 'reference') return referenceContract(file, state);
  if (!state.query && isSound && file.result.diagnostics.length === 0) {
    file.problem(file.whole(), definitionWithoutQuery);
  }
  const declared = LOAD_POLICIES.find((policy) => policy === state.contract?.options.get('load')?.value);
  pushDefinition(file, state, state.form ?? declared ?? (state.contract ? DEFAULT_POLICY : 'view'));
}

/** Without columns there is no contract that options could belong to. */
function refuseOption(file: FileReader, option: Node): void {
  if (!('DefElem' in option)) return;
  const start = file.parsed.at(option.DefElem.location);
  const name = option.DefElem.defname ?? '';
  file.problem({ start, end: start + name.length }, optionWithoutContract(name));
}

function pushDefinition(file: FileReader, state: DefinitionState, policy: LoadPolicy): void {
  const { layer, query, contract, nameRange = file.whole(), before, after } = state;
  const name = file.stem;
  const fullName = `${layer}.${name}`;
  const { path, comments } = file;
  const definition: Writable<Definition> = {
    kind: 'definition',
    layer,
    name,
    fullName,
    path,
    nameRange,
    policy,
    before,
    after,
    columnComments: columnComments(file, fullName),
  };
  if (query) definition.query = query;
  if (contract) {
    definition.contract = withComments(contract, comments, fullName);
    file.result.diagnostics.push(...checkOptions(path, contract.options, TABLE_OPTIONS, 'a table'));
    file.columnOptions(contract, COLUMN_OPTIONS, 'a column');
  }
  const comment = comments.tables.get(fullName);
  if (comment !== undefined) definition.comment = comment;
  file.result.tables.push(definition);
}

function columnComments(file: FileReader, fullName: string): ReadonlyMap<string, string> {
  if (file.comments.columns.size === 0) return file.comments.columns;
  const own = new Map<string, string>();
  for (const [name, text] of file.comments.columns) {
    if (name.startsWith(`${fullName}.`)) own.set(name.slice(fullName.length + 1), text);
  }
  return own;
}

/** `reference/x.sql` holds the contract of `reference/x.csv`; the two are joined when the project is resolved. */
function referenceContract(file: FileReader, state: DefinitionState): void {
  if (state.query) file.problem(state.query, queryOfReference);
  if (!state.contract) return;
  delete state.query;
  pushDefinition(file, state, 'rebuild');
}

function definitionStatement(file: FileReader, statement: Statement, state: DefinitionState): void {
  const { node } = statement;
  if ('SelectStmt' in node) takeQuery(file, state, node.SelectStmt, statement, undefined);
  else if ('CreateStmt' in node) takeContract(file, state, node.CreateStmt, statement);
  else if ('ViewStmt' in node && node.ViewStmt.query && 'SelectStmt' in node.ViewStmt.query) {
    takeName(file, state, node.ViewStmt.view ?? {});
    if (node.ViewStmt.aliases?.length) file.notAllowed(statement, 'name the columns in the query');
    takeQuery(file, state, node.ViewStmt.query.SelectStmt, file.rangeAfterAs(statement), 'view');
  } else if (
    'CreateTableAsStmt' in node &&
    node.CreateTableAsStmt.query &&
    'SelectStmt' in node.CreateTableAsStmt.query &&
    node.CreateTableAsStmt.objtype !== 'OBJECT_MATVIEW'
  ) {
    takeName(file, state, node.CreateTableAsStmt.into?.rel ?? {});
    for (const option of node.CreateTableAsStmt.into?.options ?? []) refuseOption(file, option);
    takeQuery(file, state, node.CreateTableAsStmt.query.SelectStmt, file.rangeAfterAs(statement), 'rebuild');
  } else if ('VariableSetStmt' in node) {
    if (state.contract || state.query) file.notAllowed(statement, 'set belongs before the contract and the query');
    state.before.push({ start: statement.start, end: statement.end });
  } else if ('IndexStmt' in node || 'GrantStmt' in node || 'VacuumStmt' in node) takeAfter(file, state, statement);
  else if (!('CommentStmt' in node))
    file.notAllowed(
      statement,
      'a definition holds a contract, a query, comments, and after them create index, grant and analyze',
    );
}

function takeName(file: FileReader, state: DefinitionState, relation: RangeVar): void {
  const range = tableNameRange(
    file.text,
    file.parsed.at(relation.location),
    relation.schemaname,
    relation.relname ?? '',
  );
  const expected = `${state.layer}.${file.stem}`;
  const written = relation.schemaname ? `${relation.schemaname}.${relation.relname ?? ''}` : (relation.relname ?? '');
  state.nameRange = range;
  if (written !== expected) file.problem(range, otherName(file.path, 'table', { written, expected }));
}

function takeContract(file: FileReader, state: DefinitionState, create: CreateStmt, statement: Statement): void {
  if (state.contract) return file.problem(file.firstWord(statement), secondContract);
  takeName(file, state, create.relation ?? {});
  state.contract = readContract(
    file.parsed,
    file.stem,
    { elements: create.tableElts, options: create.options },
    statement,
  );
  for (const { condition } of state.contract.constraints)
    if (condition) file.effects(mentionsIn(file.parsed, condition).effects);
}

function takeQuery(
  file: FileReader,
  state: DefinitionState,
  select: SelectStmt,
  range: Range,
  form: LoadPolicy | undefined,
): void {
  if (state.query) return file.problem(file.firstWord(range), secondQuery);
  state.query = file.query(select, range);
  if (form) state.form = form;
}

function takeAfter(file: FileReader, state: DefinitionState, statement: Statement): void {
  if (!state.query && state.isSound && file.path.split('/')[0] !== 'reference')
    file.notAllowed(statement, 'create index, grant and analyze belong after the query');
  const { node } = statement;
  const { tables } = mentionsIn(file.parsed, node);
  const kind = 'IndexStmt' in node ? 'index' : 'GrantStmt' in node ? 'grant' : 'analyze';
  const own = `${state.layer}.${file.stem}`;
  for (const t of tables) {
    if (`${t.layer ?? ''}.${t.name}` !== own) file.problem(t, aboutOtherTable(`${t.layer ?? ''}.${t.name}`, own));
  }
  const indexName =
    'IndexStmt' in node && node.IndexStmt.idxname ? indexNameRange(file, statement, node.IndexStmt.idxname) : undefined;
  state.after.push({ kind, start: statement.start, end: statement.end, tables, ...optional('indexName', indexName) });
}

function indexNameRange(file: FileReader, statement: Range, name: string): AfterStatement['indexName'] {
  const token = tokenize(file.text, statement.start, statement.end).find(
    (t) => (t.kind === 'word' || t.kind === 'quoted') && nameOf(t) === name,
  );
  return token && { start: token.start, end: token.end, name };
}
