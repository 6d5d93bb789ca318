export { csvField, type CsvField, csvText, readCsv, readPasted } from './csv.js';
export { indexFile, restored, tooSlow, withoutFunctions } from './index-file.js';
export { LONGEST_PATH, pathProblem, treeEntryProblem } from './paths.js';
