export { anatomyOf, type AnatomyOf } from './read.js';
export {
  type Anatomy,
  type FigureName,
  FIGURES,
  type Figures,
  type Question,
  type Step,
  type StepKind,
  type StepLook,
} from './step.js';
export { type ResultCheck, resultChecks } from './result-checks.js';
export { adviceOn, type Advice, type ScannedTable } from './advice.js';
export { planNodes, type Explained, type PlanNode } from './plan.js';
export { inline, type Inlined } from './inline.js';
export { lift, type Lift, type Lifted } from './lift.js';
