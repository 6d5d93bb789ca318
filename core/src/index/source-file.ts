import type { CreateForeignTableStmt, CreateStmt, RangeVar } from 'libpg-query';
import { readContract, readOptions } from './contract.js';
import { dottedRange } from './mentions.js';
import type { Statement } from '../sql/parser.js';
import { optional, withComments, type Comments, type FileReader } from './file-reader.js';
import { sourceWithoutLayer } from './messages.js';
import { checkOptions, SOURCE_COLUMN_OPTIONS, SOURCE_TABLE_OPTIONS } from '../language/options.js';

/** `sources/`: servers and the tables that live there. */
export function sourcesFile(file: FileReader): void {
  const comments = file.comments;
  for (const statement of file.parsed.statements) {
    const { node } = statement;
    if ('CreateForeignServerStmt' in node) {
      const server = node.CreateForeignServerStmt;
      file.result.servers.push({
        name: server.servername ?? '',
        wrapper: server.fdwname ?? '',
        path: file.path,
        range: { start: statement.start, end: statement.end },
        options: readOptions(file.parsed, server.options ?? []),
      });
    } else if ('CreateForeignTableStmt' in node) sourceTable(file, statement, node.CreateForeignTableStmt, comments);
    else if (!('CommentStmt' in node))
      file.notAllowed(statement, 'sources/ holds create server, create foreign table and comment on');
  }
}

function sourceTable(
  file: FileReader,
  statement: Statement,
  foreign: CreateForeignTableStmt,
  comments: Comments,
): void {
  const base = foreign.base ?? (foreign as unknown as CreateStmt);
  const relation: RangeVar = (base as CreateStmt).relation ?? {};
  const name = relation.relname ?? '';
  const nameRange = dottedRange(file.text, file.parsed.at(relation.location), relation.schemaname ? 2 : 1);
  if (!relation.schemaname) file.problem(nameRange, sourceWithoutLayer(name));
  const layer = relation.schemaname ?? 'landing';
  const contract = withComments(
    readContract(file.parsed, name, { elements: (base as CreateStmt).tableElts, options: foreign.options }, statement),
    comments,
    `${layer}.${name}`,
  );
  file.result.diagnostics.push(...checkOptions(file.path, contract.options, SOURCE_TABLE_OPTIONS, 'a source table'));
  file.columnOptions(contract, SOURCE_COLUMN_OPTIONS, 'a source column');
  file.result.tables.push({
    kind: 'source',
    layer,
    name,
    fullName: `${layer}.${name}`,
    path: file.path,
    nameRange,
    server: foreign.servername ?? '',
    contract,
    ...optional('comment', comments.tables.get(`${layer}.${name}`)),
  });
}
