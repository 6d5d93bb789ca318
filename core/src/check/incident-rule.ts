import { SEVERITIES, type Severity } from '../language/options.js';
import type { OptionValue, Project } from '../model/project.js';
import type { Check } from './checks.js';

/** What happens when a check or a load fails in production. */
export interface IncidentRule {
  readonly opens: boolean;
  readonly severity: Severity;
}

/** The rule of a check: a file of checks/ has its own, a check of a contract has its table's. */
export const checkRule = (project: Project, check: Check): IncidentRule =>
  check.kind === 'query' ? ruleOf(project.checks.get(check.name)?.options) : loadRule(project, check.table);

/** The rule of a table's loads. */
export const loadRule = (project: Project, table: string): IncidentRule =>
  ruleOf(project.tables.get(table)?.contract?.options);

function ruleOf(options: ReadonlyMap<string, OptionValue> | undefined): IncidentRule {
  const severity = options?.get('severity')?.value;
  return {
    opens: ['true', 'on'].includes(options?.get('open_incident')?.value ?? 'false'),
    severity: SEVERITIES.find((s) => s === severity) ?? 'medium',
  };
}
