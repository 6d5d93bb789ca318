export { type Judged, judgeTable, type Series, type TableJudged } from './judge.js';
export { type Expectation, learn, LEAST_DAYS, LEAST_VALUES, type Measured } from './learn.js';
export { instantOfWatermark, usualWait, type Wait, waitDay, waited } from './lateness.js';
export {
  isJudged,
  type MeasuredColumn,
  type MeasuredLoad,
  type Measuring,
  type Looked,
  measuring,
  chanceOf,
  scaleOfMeasure,
} from './measures.js';
export type { Scale } from './scales.js';
export { ageWords, measureWords } from './words.js';
