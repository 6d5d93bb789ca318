export { InputTrace, type NamedRow, type Wanted } from './begin.js';
export { compareRows, type ComparedRow, type SameValue, type TextRow } from './compare.js';
export { exampleDigest } from './digest.js';
export { type ExampleStep } from './fill.js';
export { madeUp } from './made-up.js';
export { type ExampleLoad, type ExamplePlan, planExample } from './plan.js';
