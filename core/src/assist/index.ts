export { CAST_ANSWER, CAST_ROWS, type Cast, type CastOutcome, castBlock, isTypeName, readCasts } from './casts.js';
export { type ContractEdit, ContractEditError, editContract } from './contract-edit.js';
export { type ContractColumn, type ContractView, contractView } from './contract-view.js';
export { type JoinCondition, joinConditions } from './join-conditions.js';
export { find, type Found, type FoundKind } from './find.js';
export { type LayerStatement, layerStatements, layersInOrder } from './layer-order.js';
export { meaningAt } from './meaning-at.js';
export { namesAt } from './names-at.js';
export { type Explanation, explainOption, optionChoices } from './options-at.js';
export { unknownOwners } from './owners.js';
export { withParameterValues } from './parameter-values.js';
export type { Queried, QueryPart } from './query-parts.js';
export {
  FITS_FUNCTION,
  ROWS_A_BLOCK,
  type StoredInput,
  type Suspect,
  TRACED_ROWS,
  likeliest,
  misfitColumn,
  misfitQuery,
  readThroughViews,
  rowsBetween,
  suspects,
  valueQueries,
} from './trace.js';
export { type QuickFix, quickFix } from './quick-fix.js';
export { rename, type Renamed, type RenamedFile } from './rename.js';
export type { Obstacle, Renaming } from './rename-edits.js';
export { type Leftover, leftoversOf } from './unused.js';
export { type Named, type Use, type Uses, usesOf } from './uses.js';
export { formerNamesBack } from './way-back.js';
