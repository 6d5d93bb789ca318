import type { LoadPolicy } from '../../../model/load-policy.js';
import { columnOption, isFilled } from '../../../language/contract.js';
import { COLUMN_OPTIONS, optionFits, TABLE_OPTIONS, type OptionRule } from '../../../language/options.js';
import { policiesInWords } from '../../../language/policies.js';
import { hasRole, roleFits, roleOf, ROLES } from '../../../language/roles.js';

import type { LoadRule } from './load.js';
import { driftNeverRewritten, previousOfWhat, stampsNeverRewritten, unsupported } from './messages.js';

const ruleOf = (rules: Readonly<Record<string, OptionRule>>, name: string): OptionRule | undefined =>
  Object.hasOwn(rules, name) ? rules[name] : undefined;
const inWords = (policies: readonly LoadPolicy[] = []): string => policiesInWords(policies);

/** Options and roles that mean nothing to the policy. */
export const misplaced: LoadRule = (load) => {
  const { policy, contract } = load.table;
  for (const [name, { range }] of contract?.options ?? []) {
    const rule = ruleOf(TABLE_OPTIONS, name);
    if (rule && !optionFits(rule, policy))
      load.report(unsupported(policy, `option ${name}`, inWords(rule.policies)), range);
  }
  for (const column of load.columns) {
    const role = roleOf(column);
    if (role !== undefined && !roleFits(role, policy))
      load.report(unsupported(policy, `the role ${role}`, inWords(ROLES[role].policies)), column.range);
    for (const name of Object.keys(column.options)) {
      const rule = ruleOf(COLUMN_OPTIONS, name);
      if (rule && !optionFits(rule, policy))
        load.report(unsupported(policy, name, inWords(rule.policies)), column.range);
    }
  }
};

/** A table that is never rewritten may not be asked to be. */
export const shape: LoadRule = (load) => {
  const asked = load.option('shape');
  if (asked?.value !== 'rewrite') return;
  if (load.option('drift')?.value === 'add') load.report(driftNeverRewritten, asked.range);
  const stamp = load.option('effective_from') && load.columns.find((c) => hasRole(c, 'loaded at', 'run id'));
  if (stamp) load.report(stampsNeverRewritten(roleOf(stamp)!, stamp.name), asked.range);
};

/** A column with a previous value says whose. */
export const previousOf: LoadRule = (load) => {
  for (const column of load.columns) {
    if (columnOption(column, 'on_change') !== 'previous') continue;
    const of = load.columns.find((c) => c.name === columnOption(column, 'previous_of'));
    const changes =
      of && !isFilled(of) && ['version', 'overwrite'].includes(columnOption(of, 'on_change') ?? 'version');
    if (!changes) load.report(previousOfWhat(column.name), column.range);
  }
};
