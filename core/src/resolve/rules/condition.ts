import { mentionsIn } from '../../index/mentions.js';
import { parseSql } from '../../sql/parser.js';
import type { Node } from 'libpg-query';
import { unknownColumn } from '../messages.js';
import { nearest } from '../../sql/nearest.js';
import { resolveExpression } from '../../columns/columns.js';
/**
 * What is wrong with a condition over the columns of one table: its syntax, or the first name that
 * the table lacks. A text that is more than one condition is refused, so that it can be put between
 * parentheses.
 */
export function conditionProblems(condition: string, table: string, columns: readonly string[]): string[] {
  const read = oneCondition(condition);
  if ('problem' in read) return [read.problem];
  if (read.effect) return [read.effect];
  return resolveExpression(read.node, [{ name: table, columns }]).map((p) => {
    const name = 'parts' in p ? p.parts.at(-1)! : '';
    const { message, hint } = unknownColumn([table, name], nearest(name, columns));
    return hint === undefined ? message : `${message}; ${hint}`;
  });
}

/** A text as one condition, with the first thing in it that does more than read, or why it is none. */
export function oneCondition(
  condition: string,
): { readonly node: Node; readonly effect?: string } | { readonly problem: string } {
  const parsed = parseSql(`select where (${condition}\n)`);
  if (parsed.error) return { problem: parsed.error.message };
  const [statement, ...more] = parsed.statements;
  const select = statement && 'SelectStmt' in statement.node ? statement.node.SelectStmt : undefined;
  const others = Object.keys(select ?? {}).filter((k) => !['whereClause', 'limitOption', 'op'].includes(k));
  if (!select?.whereClause || more.length || others.length) return { problem: 'this is not one condition' };
  const [effect] = mentionsIn(parsed, select.whereClause).effects;
  return { node: select.whereClause, ...(effect ? { effect: effect.message } : {}) };
}
