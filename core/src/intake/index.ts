export {
  type DeliveryOptions,
  deliveryOptions,
  detectDecimal,
  detectDelimiter,
  isNumberType,
  tableForFile,
  type TriedName,
  triedNames,
  withPoint,
} from './delivery.js';
export { type CatalogTable, type Drift, driftOf, drifted, importTables, withAddedColumns } from './import-tables.js';
export { type IntakePlan, boundSql, planInPlace, planIntake, watermarkOf } from './intake.js';
export { MOST_CHECKED, type ReferenceProblem, referenceCheckQuery, referenceProblems } from './reference-values.js';
export { proposeUpload, rowsFor, type Upload, type UploadColumn, uploadTexts } from './reference-upload.js';
