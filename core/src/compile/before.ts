import { mentionsIn } from '../index/mentions.js';
import { withLeadingWords } from '../sql/leading-words.js';
import { parseSql } from '../sql/parser.js';
import { compileText, type Names } from './compile.js';

/** The statements, with the names of the project replaced; `set` means `set local`. */
export function beforeStatementsOf(text: string, names: Names): string[] {
  const parsed = parseSql(text);
  return parsed.statements.map((statement) => {
    const compiled = compileText({ text } as never, statement, mentionsIn(parsed, statement.node), names).text.trim();
    return 'VariableSetStmt' in statement.node ? localSet(compiled) : compiled;
  });
}

/** `set` in a definition means `set local`. */
export const localSet = (sql: string): string => withLeadingWords(sql, ['set', ['local', 'session']], 'set local');
