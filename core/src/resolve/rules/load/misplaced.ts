import { columnOption, isFilled } from '../../../language/contract.js';
import { COLUMN_OPTIONS, optionFits, TABLE_OPTIONS, type OptionRule } from '../../../language/options.js';
import { policiesInWords } from '../../../language/policies.js';
import { hasRole, roleFits, roleOf, ROLES } from '../../../language/roles.js';
import type { LoadPolicy } from '../../../model/project.js';
import type { LoadRule } from './load.js';

const ruleOf = (rules: Readonly<Record<string, OptionRule>>, name: string): OptionRule | undefined =>
  Object.hasOwn(rules, name) ? rules[name] : undefined;
const isFor = (policies: readonly LoadPolicy[] = []): string => `it is for ${policiesInWords(policies)}`;

/** Options and roles that mean nothing to the policy. */
export const misplaced: LoadRule = (load) => {
  const { policy, contract } = load.table;
  for (const [name, { range }] of contract?.options ?? []) {
    const rule = ruleOf(TABLE_OPTIONS, name);
    if (rule && !optionFits(rule, policy))
      load.report(`option ${name} means nothing to load = ${policy}`, isFor(rule.policies), range);
  }
  for (const column of load.columns) {
    const role = roleOf(column);
    if (role !== undefined && !roleFits(role, policy))
      load.report(`role ${role} means nothing to load = ${policy}`, isFor(ROLES[role].policies), column.range);
    for (const name of Object.keys(column.options)) {
      const rule = ruleOf(COLUMN_OPTIONS, name);
      if (rule && !optionFits(rule, policy))
        load.report(`${name} means nothing to load = ${policy}`, isFor(rule.policies), column.range);
    }
  }
};

/** A table that is never rewritten may not be asked to be. */
export const shape: LoadRule = (load) => {
  const asked = load.option('shape');
  if (asked?.value !== 'rewrite') return;
  if (load.option('drift')?.value === 'add')
    load.report(
      'a table with drift = add is never rewritten',
      'columns that only the table still has would be lost; leave shape out',
      asked.range,
    );
  const stamp = load.option('effective_from') && load.columns.find((c) => hasRole(c, 'loaded at', 'run id'));
  if (stamp)
    load.report(
      `a history from events that keeps ${roleOf(stamp)!} is never rewritten`,
      `versions that stay the same keep what ${stamp.name} says of them; leave shape out`,
      asked.range,
    );
};

/** A column with a previous value says whose. */
export const previousOf: LoadRule = (load) => {
  for (const column of load.columns) {
    if (columnOption(column, 'on_change') !== 'previous') continue;
    const of = load.columns.find((c) => c.name === columnOption(column, 'previous_of'));
    const changes =
      of && !isFilled(of) && ['version', 'overwrite'].includes(columnOption(of, 'on_change') ?? 'version');
    if (!changes)
      load.report(
        `${column.name} has to say whose previous value it holds`,
        "write previous_of 'column', a column that is versioned or overwritten",
        column.range,
      );
  }
};
