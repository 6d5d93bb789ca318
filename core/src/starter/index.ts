export { type CleanColumn, cleanTable, proposeClean } from './clean.js';
export { type DateChoices, dateDimension } from './date-dimension.js';
export { type OnChange, dimensionTable } from './dimension.js';
export { type DimensionTable, type FactLookUp, factTable, proposeLookUps, shareFoundQuery } from './fact.js';
export { type GroupKey, hasPeriods, keyName, type Period, PERIODS } from './periods.js';
export { pivot, pivotNames, pivotValuesQuery, unpivot } from './pivot.js';
export { JOIN_KINDS, type JoinedTable, type JoinKind, fromRelated, multiplies, roleOf } from './related.js';
export { type Relation, type Step, relationsOf, stepsFrom } from './relations.js';
export { splitCounts, splitTable } from './split.js';
export { type StackedColumn, matchColumns, stackTables } from './stack.js';
export { MEASURES, type Measure, type MeasureKind, summarise } from './summarise.js';
export { type TargetChoices, againstTargets } from './target.js';
export {
  type KeyedTable,
  type SharedValues,
  type ValuePair,
  type LoneColumn,
  loneColumns,
  matchByValues,
  matchUnique,
  readSharedValues,
  relationPairs,
  relationsFromValues,
  sharedValuesQuery,
  stackPairs,
  uniqueValuesQuery,
} from './values.js';
export { type VaultEntity, vaultTables } from './vault.js';
export type { StarterTable } from './text.js';
