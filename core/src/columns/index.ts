export { resolveColumns } from './columns.js';
