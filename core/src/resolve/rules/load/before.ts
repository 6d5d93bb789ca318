import { keepsRows } from '../../../language/policies.js';
import type { LoadRule } from './load.js';
import {
  emptyBefore,
  inOption,
  lacksLayer,
  NO_VACUUM,
  NOT_BEFORE,
  notRead,
  onlyItself,
  STATEMENTS,
} from './messages.js';
import { mentionsIn } from '../../../index/mentions.js';
import { parseSql } from '../../../sql/parser.js';
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
export function beforeProblem(
  text: string,
  own: string,
  reads: readonly string[],
  { keeps }: { readonly keeps: boolean },
): string | undefined {
  const parsed = parseSql(text);
  if (parsed.error) return parsed.error.message;
  for (const statement of parsed.statements) {
    const [kind] = Object.keys(statement.node);
    const allowed = ALLOWED[kind ?? ''];
    if (!allowed) return NOT_BEFORE;
    if (kind === 'VacuumStmt' && !/^\s*analyze\b/i.test(text.slice(statement.start, statement.end))) return NO_VACUUM;
    const { tables: mentioned, effects } = mentionsIn(parsed, statement.node);
    const call = effects.find((e) => e.kind === 'call');
    if (call) return call.message;
    const tables = mentioned.map((t) => `${t.layer ?? ''}.${t.name}`);
    const other = tables.find((t) => t !== own && !reads.includes(t));
    if (other !== undefined) return other.startsWith('.') ? lacksLayer(other.slice(1)) : notRead(other);
    if (!keeps && tables.includes(own)) return emptyBefore(own);
    if (allowed === 'change' && tables[0] !== own) return onlyItself(own);
  }
  return undefined;
}

/** Statements before the query only change the table itself, and only where it keeps rows. */
export const before: LoadRule = (load) => {
  const { table } = load;
  const option = load.option('before');
  if (!option) return;
  const reads = (table.query?.tables ?? []).map((t) => `${t.layer ?? ''}.${t.name}`);
  const problem = beforeProblem(option.value, table.each?.declared ?? table.fullName, reads, {
    keeps: keepsRows(table),
  });
  if (problem !== undefined) load.report(inOption('before', problem, STATEMENTS), option.range);
};
