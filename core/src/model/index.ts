export type { LoadPolicy } from './load-policy.js';
export type { Diagnostic } from './diagnostic.js';
export {
  type Environment,
  type Place,
  stagedSchema,
  productionEnvironment,
  workspaceEnvironment,
  workspacePrefix,
} from './place.js';
export type { ColumnProfile, Profile } from './profile.js';
export { declaredColumn } from './project.js';
export type {
  Definition,
  Example,
  ExampleFile,
  ExamplePart,
  IndexedFile,
  Job,
  Project,
  ProjectFunction,
  Query,
  ReferenceTable,
  Server,
  SourceTable,
  Table,
} from './project.js';
export { settingsOf, withEach } from './settings.js';
export { WAREHOUSE_SERVER, remotePlace } from './source.js';
