export {
  type Check,
  checkTitle,
  checksOf,
  countOver,
  countStatement,
  queryCheck,
  queryCheckStatements,
  rowsStatement,
  tableOfCheck,
} from './checks.js';
export { type ChangedCheck, changedChecks, checkDigests, contractDigest } from './check-text.js';
export { conditionProbes } from './condition-probes.js';
export { type ConstraintCheck, constraintChecks } from './constraint-checks.js';
export { checkRule, type IncidentRule, loadRule } from './incident-rule.js';
export { type CheckNames, type TableChecks, tableChecks } from './table-checks.js';
export { type Verdict, verdictOf, worst } from './verdict.js';
