export { LONGEST_SHOWN, type SizedColumn, cutQuery, describing } from './cut.js';
export { type HistoryTable, asOfQuery, changedColumns, compareQuery, versionsQuery } from './history.js';
export {
  FILTER_OPS,
  type FilterOp,
  type PageColumn,
  type PageRequest,
  type RowFilter,
  type Statement,
  allRows,
  countRows,
  pageStatement,
} from './page.js';
export { HISTOGRAM_STEPS, PROFILE_QUANTILES, profileStatement, shapeOf } from './profile.js';
export { sampleQuery } from './sample.js';
