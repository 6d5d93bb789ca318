import type { ContractView, ContractColumn } from '@ouvrage/core/assist';
import {
  TABLE_OPTIONS,
  POLICIES,
  choicesOf,
  optionFits,
  COLUMN_OPTIONS,
  type ColumnOption,
} from '@ouvrage/core/language';
import type { LoadPolicy } from '@ouvrage/core/model';
import type { OptionRule } from '@ouvrage/core/language';
type Rules = Readonly<Record<string, OptionRule>>;

export const rulesOf = (rules: Rules, name: string): OptionRule | undefined =>
  Object.hasOwn(rules, name) ? rules[name] : undefined;

export const words = (option: string): string => option.replaceAll('_', ' ');

/** The values that an option can have under a policy; undefined where they cannot be listed. */
export function choicesIn(policy: LoadPolicy, option: string): readonly string[] | undefined {
  const rule = rulesOf(TABLE_OPTIONS, option);
  return rule === TABLE_OPTIONS.missing_rows ? POLICIES[policy].missingRows : rule && choicesOf(rule);
}

/** The options of a table that mean something to its policy, or are set: those that are rarely needed last. */
export function optionsFor(view: ContractView): string[] {
  const fitting = Object.entries<OptionRule>(TABLE_OPTIONS).filter(([, rule]) => optionFits(rule, view.policy));
  const known = [...fitting.filter(([, rule]) => !rule.rare), ...fitting.filter(([, rule]) => rule.rare)].map(
    ([name]) => name,
  );
  return [...new Set([...known, ...Object.keys(view.options)])].filter((name) => name !== 'load');
}

/** Options of a column that are shown where they are set, or where another setting asks for them. */
export const SHOWN_WHEN = {
  on_change: (column, view) => optionFits(COLUMN_OPTIONS.on_change, view.policy) && !column.filled,
  looked_up_by: (column, view) =>
    view.constraints.some((c) => c.kind === 'references' && c.columns.length === 1 && c.columns[0] === column.name),
  at: isLookedUp,
  before_first: isLookedUp,
  missing: isLookedUp,
  unknown: never,
  previous_of: (column) => column.options['on_change'] === 'previous',
  was: never,
} as const satisfies Partial<Record<ColumnOption, (column: ContractColumn, view: ContractView) => boolean>>;

function isLookedUp({ options }: ContractColumn): boolean {
  return options['looked_up_by'] !== undefined;
}

function never(): boolean {
  return false;
}
