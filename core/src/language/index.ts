export { optionOf } from './contract.js';
export {
  COLUMN_OPTIONS,
  type ColumnOption,
  type OptionRule,
  SEVERITIES,
  type Severity,
  TABLE_OPTIONS,
  choicesOf,
  optionFits,
} from './options.js';
export { DEFAULT_POLICY, LOAD_POLICIES, POLICIES, isView, keepsRows } from './policies.js';
export { COLUMN_ROLES, type Role, columnWith, roleFits, roleOf } from './roles.js';
export { specOf } from './spec.js';
export { valueProblem } from './value-problem.js';
export { jobSpec, namesIn, type JobSpec } from './job.js';
