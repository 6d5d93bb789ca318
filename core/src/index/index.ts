export { csvField, type CsvField, csvText, readCsv, readPasted } from './csv.js';
export { examplePart, examplePath } from './example-file.js';
export { indexFile, restored, tooSlow, withoutFunctions } from './index-file.js';
export { noteLinks, type NoteLink } from './note-links.js';
export { LONGEST_PATH, pathProblem, treeEntryProblem } from './paths.js';
