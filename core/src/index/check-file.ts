import { readOptions } from './contract.js';
import { dottedRange } from './mentions.js';
import type { Range } from '../sql/positions.js';
import { optional, type FileReader } from './file-reader.js';
import { checkWithoutQuery, otherName } from './messages.js';
import type { CheckQuery, Query } from '../model/project.js';
import { CHECK_OPTIONS, checkOptions } from '../language/options.js';

/** `checks/`: one view over rows that should not exist. */
export function checkFile(file: FileReader): void {
  for (const statement of file.parsed.statements) {
    const { node } = statement;
    if ('CommentStmt' in node) continue;
    if ('SelectStmt' in node) {
      pushCheck(file, file.stem, file.firstWord(statement), file.query(node.SelectStmt, statement), new Map());
      continue;
    }
    const select =
      'ViewStmt' in node && node.ViewStmt.query && 'SelectStmt' in node.ViewStmt.query
        ? node.ViewStmt.query.SelectStmt
        : undefined;
    if (!('ViewStmt' in node) || !select) {
      file.notAllowed(statement, 'checks/ holds one create view checks.NAME as select … a file');
      continue;
    }
    const view = node.ViewStmt.view ?? {};
    const nameRange = dottedRange(file.text, file.parsed.at(view.location), view.schemaname ? 2 : 1);
    if (view.schemaname !== 'checks' || view.relname !== file.stem) {
      const written = `${view.schemaname ?? ''}.${view.relname ?? ''}`;
      file.problem(nameRange, otherName(file.path, 'check', { written, expected: `checks.${file.stem}` }));
    }
    const options = readOptions(file.parsed, node.ViewStmt.options ?? []);
    file.result.diagnostics.push(...checkOptions(file.path, options, CHECK_OPTIONS, 'a check'));
    pushCheck(file, file.stem, nameRange, file.query(select, file.rangeAfterAs(statement)), options);
  }
  if (file.result.checks.length === 0 && file.result.diagnostics.length === 0)
    file.problem(file.whole(), checkWithoutQuery);
}

function pushCheck(
  file: FileReader,
  name: string,
  nameRange: Range,
  query: Query,
  options: CheckQuery['options'],
): void {
  const comment = file.comments.tables.get(`checks.${name}`);
  file.result.checks.push({ name, path: file.path, nameRange, query, options, ...optional('comment', comment) });
}
