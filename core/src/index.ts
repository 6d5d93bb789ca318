export { loadParser, parseSql, type ParsedText, type Statement } from './sql/parser.js';
export { lineColumn, type LineColumn, type Range } from './sql/positions.js';
export { tokenize, type Token } from './sql/tokens.js';
export type { EditedText } from './sql/edits.js';
export { ident, idents, literal, qualified } from './sql/quote.js';
export { shortType } from './sql/types.js';
export { planInPlace, WAREHOUSE_SERVER } from './load/intake.js';
export { rehashedColumns } from './load/hashes.js';
export { hashOf, NEWEST_HASHING, type Hashing } from './load/hashing.js';
export { standInReason } from './load/stand-ins.js';
export { didYouMean, nearest } from './sql/nearest.js';
export { readCsv, csvText, readPasted, type Csv, type CsvField } from './project/csv.js';
export { conditionProblems } from './project/source-diagnostics.js';
export { conditionProbes, type ConditionProbe } from './project/condition-probes.js';
export { MOST_CHECKED, referenceCheckQuery, referenceProblems, type ReferenceProblem } from './project/reference-values.js';
export { readProject, changeFiles } from './project/read-project.js';
export { layersInOrder, layerStatements, type LayerStatement } from './project/layer-order.js';
export { withParameterValues } from './project/parameter-values.js';
export { cutQuery, describing, LONGEST_SHOWN, type AroundQuery, type SizedColumn } from './anatomy/cut.js';
export { LONGEST_PATH, pathProblem, treeEntryProblem } from './project/paths.js';
export { indexFile, restored, tooSlow, withoutFunctions } from './project/index-file.js';
export type { Diagnostic, DiagnosticCode } from './project/diagnostic.js';
export type * from './project/model.js';
export { TABLE_OPTIONS, COLUMN_OPTIONS, COLUMN_ROLES } from './project/options.js';
export { afterInputs, orderOf, readersOf, reachable, select, type Selection } from './graph/graph.js';
export { fingerprints } from './graph/fingerprint.js';
export { resolveColumns } from './lineage/columns.js';
export { queryOf, mentionsIn, FUNCTIONS_SCHEMA } from './lineage/mentions.js';
export { namesAt, type NameInScope } from './lineage/names-at.js';
export { checksOf, checkTitle, queryCheck, countStatement, rowsStatement, queryCheckStatements, type Check, type QueryCheck } from './check/checks.js';
export { constraintChecks, type ConstraintCheck } from './check/constraint-checks.js';
export { verdictOf, worst, type Verdict } from './check/verdict.js';
export { productionEnvironment, workspaceEnvironment, workspacePrefix, besideSchema, type Environment, type Place } from './load/place.js';
export {
  compileText,
  compileFunction,
  functionsOf,
  definitionQuery,
  inlinedTables,
  previewQuery,
  settingsOf,
  withEach,
  wrapped,
  type Names,
} from './load/compile.js';
export { driftProbe, planLoad, targetPlace, besidePlace, SESSION_SETTINGS, type LoadPlan, type LoadStatement, type PlanContext } from './load/plan.js';
export { planIntake, sourceQuery, boundSql, watermarkOf, type IntakePlan, type IntakeScope } from './load/intake.js';
export {
  importTables,
  driftOf,
  drifted,
  remotePlace,
  withAddedColumns,
  type CatalogTable,
  type CatalogColumn,
  type Drift,
  type ImportTarget,
} from './contract/import-tables.js';
export {
  planSwap,
  planReplaceInPlace,
  keptFromOld,
  remadeByOwner,
  OLD_SQL,
  DEPENDENTS_SQL,
  type Attached,
  type Blocker,
  type Dependent,
  type OldRelation,
  type SwapItem,
  type SwapPlan,
} from './load/swap.js';
export { compareProjects, type ProjectChange, type TableChange } from './review/changes.js';
export {
  pageStatement,
  countRows,
  allRows,
  FILTER_OPS,
  type FilterOp,
  type PageColumn,
  type PageRequest,
  type RowFilter,
  type Statement as ParameterStatement,
} from './anatomy/page.js';
export { profileStatement, shapeOf, HISTOGRAM_STEPS, PROFILE_QUANTILES, type ColumnProfile, type ColumnShape, type Profile } from './anatomy/profile.js';
export { sampleQuery, type Sample } from './anatomy/sample.js';
export { cleanTable, proposeClean, type CleanChoices, type CleanColumn } from './starter/clean.js';
export { unifiedType } from './sql/types.js';
export { stackTables, matchColumns, type StackChoices, type StackedColumn } from './starter/stack.js';
export { splitTable, splitCounts, type SplitChoices } from './starter/split.js';
export { summarise, MEASURES, type Measure, type MeasureKind, type SummariseChoices } from './starter/summarise.js';
export { pivot, pivotNames, unpivot, type PivotChoices, type UnpivotChoices } from './starter/pivot.js';
export { againstTargets, type TargetChoices } from './starter/target.js';
export {
  matchByValues,
  readSharedValues,
  relationPairs,
  relationsFromValues,
  sharedValuesQuery,
  stackPairs,
  type KeyedTable,
  type SharedValues,
  type ValuePair,
} from './starter/values.js';
export { relationsOf, stepsFrom, type Relation, type Step } from './starter/relations.js';
export { fromRelated, multiplies, roleOf, type JoinedTable, type RelatedChoices } from './starter/related.js';
export type { StarterTable, StarterColumn } from './starter/text.js';
export {
  deliveryOptions,
  detectDecimal,
  detectDelimiter,
  isNumberType,
  matchFileName,
  patternParts,
  tableForFile,
  valueProblem,
  withPoint,
  type DeliveryOptions,
} from './load/delivery.js';
export { policyContext, policySteps, STATEFUL, type PolicyContext } from './load/policy.js';
export { type Guard, type LoadStep } from './load/steps.js';
export { editContract, ContractEditError, type ContractEdit } from './contract/edit.js';
export { contractView, type ContractView, type ContractColumn, type ContractConstraint, type ContractDifferences } from './contract/view.js';
export { OPTION_POLICIES, ROLE_POLICIES } from './project/policy-diagnostics.js';
export { schemaNameOf, schemaNames } from './project/fan-out.js';
export { renamedTables, wrongFormerNames, formerName } from './review/changes.js';
export { holdersOf, losses, migrations, otherMeaning, TREATMENTS, type Loss, type Migration, type Treatment } from './review/migration.js';
export type { LoadBase } from './load/base.js';
export type { RememberedTable } from './load/remember.js';
export {
  FITS_FUNCTION,
  likeliest,
  misfitColumn,
  misfitQuery,
  readThroughViews,
  ROWS_A_BLOCK,
  rowsBetween,
  suspects,
  TRACED_ROWS,
  valueQueries,
  type StoredInput,
  type Suspect,
} from './load/trace.js';
export { type Queried, type QueryPart } from './load/query-parts.js';
export { boundNote } from './load/bound-plan.js';
export { driftColumns, untypedDrift } from './load/drift.js';
export { namesIn, optionOf, targetOf, REMEMBERED, formerRememberedPlace, rememberedPlace, type Remembered } from './load/target.js';
export { loadProcedures, loadScript, type Script, type ScriptTable } from './load/script.js';
export { asOfQuery, changedColumns, compareQuery, versionsQuery, type HistoryTable } from './anatomy/history.js';
export { dimensionTable, keyNameOf, type DimensionChoices, type OnChange } from './starter/dimension.js';
export { factTable, proposeLookUps, shareFoundQuery, type DimensionTable, type FactChoices, type FactLookUp } from './starter/fact.js';
export { vaultTables, type VaultChoices, type VaultEntity, type VaultTable } from './starter/vault.js';
export { dateDimension, type DateChoices } from './starter/date-dimension.js';
export { datedColumns, LONGEST_DATED } from './project/contract-diagnostics.js';
