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
export { conditionProbes } from './condition-probes.js';
export { constraintChecks } from './constraint-checks.js';
export { type Verdict, verdictOf, worst } from './verdict.js';
