import { resolveExpression } from '../../../columns/columns.js';
import { CONDITIONS } from '../../../language/options.js';
import { oneCondition } from '../condition.js';
import type { LoadRule } from './load.js';
import { CONDITIONS_READ, inOption, ONE_CONDITION, unknownInCondition } from './messages.js';

/** Conditions over `q`, the query's row, and `t`, the table's. */
export const conditions: LoadRule = (load) => {
  for (const name of CONDITIONS) {
    const option = load.option(name);
    if (!option) continue;
    const condition = oneCondition(option.value);
    if ('problem' in condition) {
      load.report(inOption(name, condition.problem, ONE_CONDITION), option.range);
      continue;
    }
    if (condition.effect) load.report(inOption(name, condition.effect, CONDITIONS_READ), option.range);
    const target = load.columns.map((c) => c.name);
    const problems = resolveExpression(condition.node, [
      { name: 'q', columns: load.given().map((c) => c.name) },
      { name: 't', columns: target },
    ]);
    for (const wrong of new Set(problems.map((p) => ('parts' in p ? p.parts.join('.') : '')))) {
      load.report(unknownInCondition(name, wrong, target), option.range);
    }
  }
};
