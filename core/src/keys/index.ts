export { definitionQuery, inlinedTables, previewQuery } from './definition-query.js';
export { standInReason } from './stand-ins.js';
