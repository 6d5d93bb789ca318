import type { Node } from 'libpg-query';
import { resolveExpression } from '../lineage/columns.js';
import { mentionsIn } from '../lineage/mentions.js';
import { didYouMean } from '../sql/nearest.js';
import { parseSql } from '../sql/parser.js';
import type { Diagnostic } from './diagnostic.js';
import type { SourceTable } from './model.js';
import { lookBackProblem, watermarkProblem } from './type-fitness.js';

/** What a source table's options say about its columns, held against them. */
export function sourceDiagnostics(table: SourceTable): Diagnostic[] {
  const { columns, options } = table.contract;
  const names = columns.map((c) => c.name);
  const found: Diagnostic[] = [];
  const report = (option: string, message: string, hint?: string) => {
    const { range } = options.get(option) ?? { range: table.nameRange };
    found.push({ code: 'bad-option', severity: 'error', path: table.path, range, message, ...(hint ? { hint } : {}) });
  };
  const watermark = options.get('watermark')?.value;
  if (options.get('intake')?.value === 'incremental' && watermark === undefined)
    report('intake', `${table.fullName} is brought in incrementally but names no watermark`, `write watermark 'column', one of ${names.join(', ')}`);
  if (watermark !== undefined && !names.includes(watermark))
    report(
      'watermark',
      `option watermark: ${table.fullName} has no column ${watermark}`,
      didYouMean(watermark, names) ?? `its columns are ${names.join(', ')}`,
    );
  const type = options.get('intake')?.value === 'incremental' ? columns.find((c) => c.name === watermark)?.type : undefined;
  const [unfit, back] = [type && watermarkProblem(type), options.get('look_back')?.value];
  if (unfit) report('watermark', `option watermark: ${unfit}`, 'choose a time or a number that grows');
  const wrong = type && !unfit && back !== undefined ? lookBackProblem(type, back) : undefined;
  if (wrong) report('look_back', `option look_back: ${wrong}`, `the watermark is of type ${type!}`);
  const only = options.get('only')?.value;
  if (only !== undefined) for (const problem of conditionProblems(only, table.name, names)) report('only', `option only: ${problem}`);
  return found;
}

/**
 * What is wrong with a condition over the columns of one table: its syntax, or the first name that
 * the table lacks. A text that is more than one condition is refused, so that it can be put between
 * parentheses.
 */
export function conditionProblems(condition: string, table: string, columns: readonly string[]): string[] {
  const read = oneCondition(condition);
  if ('problem' in read) return [read.problem];
  const inputs = columns.map((name) => ({ name, origins: [] }));
  if (read.effect) return [read.effect];
  return resolveExpression(read.node, [{ name: table, columns: inputs }]).map((p) => {
    const name = 'parts' in p ? p.parts.at(-1)! : '';
    const near = didYouMean(name, columns);
    return `${table} has no column ${name}${near ? `; ${near}` : ''}`;
  });
}

/** A text as one condition, with the first thing in it that does more than read, or why it is none. */
export function oneCondition(condition: string): { readonly node: Node; readonly effect?: string } | { readonly problem: string } {
  const parsed = parseSql(`select where (${condition}\n)`);
  if (parsed.error) return { problem: parsed.error.message };
  const [statement, ...more] = parsed.statements;
  const select = statement && 'SelectStmt' in statement.node ? statement.node.SelectStmt : undefined;
  const others = Object.keys(select ?? {}).filter((k) => !['whereClause', 'limitOption', 'op'].includes(k));
  if (!select?.whereClause || more.length || others.length) return { problem: 'this is not one condition' };
  const [effect] = mentionsIn(parsed, select.whereClause).effects;
  return { node: select.whereClause, ...(effect ? { effect: effect.message } : {}) };
}
