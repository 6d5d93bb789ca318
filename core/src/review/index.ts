export { type ProjectChange, compareProjects, formerName, renamedTables, wrongFormerNames } from './changes.js';
export { type Loss, type Migration, type Treatment, holdersOf, losses, migrations, otherMeaning } from './migration.js';
export { changedOwnTables, type ReviewNeeds, reviewNeeds } from './needs.js';
export {
  COLUMN_FIGURES,
  NUMBER_FIGURES,
  columnFigures,
  type ComparedColumn,
  type ComparedSide,
  compareRepeated,
  comparisonShape,
  type ComparisonShape,
  countRepeated,
  countRowKinds,
  frequentChanges,
  type RowKind,
  type RowsCompared,
  rowsOfKind,
  type SharedColumn,
} from './row-comparison.js';
export { type Member, rowKey, type RowKey } from './row-key.js';
export { type ComesBack, namesSince, type RestoredTable, restoredTables } from './restoring.js';
