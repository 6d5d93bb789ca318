export { type Judged, judgeTable, type Series, type TableJudged } from './judge.js';
export { type Expectation, learn, LEAST_DAYS, LEAST_VALUES, type Measured } from './learn.js';
export type { Scale } from './scales.js';
