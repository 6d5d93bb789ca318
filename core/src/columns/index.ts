export { projectAround } from './around.js';
export { QueryScopes, resolveColumns } from './columns.js';
export type { Around } from './reader.js';
export type { FromItem } from './scope.js';
