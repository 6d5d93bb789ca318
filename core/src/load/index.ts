export { policyContext } from './policy/context.js';
export { policySteps } from './steps/load-steps.js';
export { runSteps, type AnswerRow, type StepHost } from './steps/run-steps.js';
export type { LoadBase } from './plan/base.js';
export { rehashedColumns } from './plan/hashes.js';
export { driftProbe, planLoad } from './plan/plan.js';
export { SESSION_SETTINGS } from './plan/statements.js';
export { type LoadPlan, type PlanContext, stagedPlace, targetPlace } from './plan/context.js';
export type { RememberedTable } from './plan/remember.js';
export {
  type Attached,
  type Blocker,
  DEPENDENTS_SQL,
  type Dependent,
  type KeptIn,
  OLD_SQL,
  type OldRelation,
  type SwapItem,
  copied,
  keptFromOld,
  planReplaceInPlace,
  planSwap,
  remadeByOwner,
} from './plan/swap.js';
export { type ScriptTable, loadProcedures, loadScript } from './script/script.js';
