import { mentionsIn } from '../lineage/mentions.js';
import { parseSql } from '../sql/parser.js';
import { compileText, type Names } from './compile.js';

/** Statements of the option `before`: they run in the load's transaction, before the query. */
const ALLOWED: Readonly<Record<string, 'read' | 'change'>> = {
  VariableSetStmt: 'read',
  SelectStmt: 'read',
  VacuumStmt: 'read',
  LockStmt: 'read',
  InsertStmt: 'change',
  UpdateStmt: 'change',
  DeleteStmt: 'change',
};

/** What is wrong with the option, or nothing. @param own the table's full name @param reads tables that its query reads */
export function beforeProblem(text: string, own: string, reads: readonly string[], keepsRows: boolean): string | undefined {
  const parsed = parseSql(text);
  if (parsed.error) return parsed.error.message;
  for (const statement of parsed.statements) {
    const [kind] = Object.keys(statement.node);
    const allowed = ALLOWED[kind ?? ''];
    if (!allowed) return 'only set, select, analyze, lock, insert, update and delete are allowed there';
    if (kind === 'VacuumStmt' && !/^\s*analyze\b/i.test(text.slice(statement.start, statement.end))) return 'vacuum cannot run inside a transaction';
    const { tables: mentioned, effects } = mentionsIn(parsed, statement.node);
    const call = effects.find((e) => e.kind === 'call');
    if (call) return call.message;
    const tables = mentioned.map((t) => `${t.layer ?? ''}.${t.name}`);
    const other = tables.find((t) => t !== own && !reads.includes(t));
    if (other !== undefined)
      return `${other.startsWith('.') ? `${other.slice(1)} lacks its layer` : `${other} is not read by the query, so it may not be there yet`}`;
    if (!keepsRows && tables.includes(own)) return `${own} is rebuilt by its load: it is empty before`;
    if (allowed === 'change' && tables[0] !== own) return `only ${own} may be changed by its load`;
  }
  return undefined;
}

/** The statements, with the names of the project replaced; `set` means `set local`. */
export function beforeStatementsOf(text: string, names: Names): string[] {
  const parsed = parseSql(text);
  return parsed.statements.map((statement) => {
    const compiled = compileText({ text } as never, statement, mentionsIn(parsed, statement.node), names).text.trim();
    return 'VariableSetStmt' in statement.node ? localSet(compiled) : compiled;
  });
}

/** `set` in a definition means `set local`. */
export const localSet = (sql: string): string => sql.replace(/^set\s+(local\s+|session\s+)?/i, 'set local ');
