export {
  type Check,
  checkTitle,
  checksOf,
  countOver,
  countStatement,
  queryCheck,
  queryCheckStatements,
  rowsStatement,
} from './checks.js';
export { type ChangedCheck, changedChecks, checkDigests } from './check-text.js';
export { conditionProbes } from './condition-probes.js';
export { constraintChecks } from './constraint-checks.js';
export { checkRule, type IncidentRule, loadRule } from './incident-rule.js';
export { type CheckNames, type TableChecks, tableChecks } from './table-checks.js';
export { type Verdict, verdictOf, worst } from './verdict.js';
