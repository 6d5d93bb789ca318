import type { Diagnostic } from './diagnostic.js';
import type { Definition } from './model.js';

/** Policies that can be loaded so far. */
const AVAILABLE = new Set(['view', 'rebuild']);

/** What of a table's load this version cannot run. */
export function policyDiagnostics(table: Definition): Diagnostic[] {
  const option = table.contract?.options.get('load');
  const range = option?.range ?? table.nameRange;
  const of = (message: string, hint: string): Diagnostic => ({ code: 'policy-not-available', severity: 'error', path: table.path, range, message, hint });
  if (!AVAILABLE.has(table.policy))
    return [of(`the load policy ${table.policy} cannot be run by this version of Ouvrage`, 'use load = rebuild or load = view')];
  const filled = table.contract?.columns.find(
    (c) =>
      ['surrogate key', 'durable key', 'valid from', 'valid to', 'current flag', 'version number'].includes(c.options['role'] ?? '') ||
      c.options['looked_up_by'] !== undefined,
  );
  if (filled)
    return [
      {
        ...of(
          `column ${filled.name} would be filled by a key or history load, which this version of Ouvrage cannot run`,
          'leave the column out, or take the key from the query',
        ),
        range: filled.range,
      },
    ];
  const fanOut = table.contract?.options.get('for_each');
  return fanOut
    ? [{ ...of('one table a row of a list (for_each) cannot be run by this version of Ouvrage', 'write one definition a table'), range: fanOut.range }]
    : [];
}
