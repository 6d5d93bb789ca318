export { schemaNameOf, schemaNames } from './fan-out.js';
export { changeFiles, readProject } from './read-project.js';
export { conditionProblems } from './rules/condition.js';
export { LONGEST_DATED, datedColumns } from './rules/reference/dates.js';
