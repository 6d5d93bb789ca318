export { projectAround } from './around.js';
export { resolveColumns } from './columns.js';
