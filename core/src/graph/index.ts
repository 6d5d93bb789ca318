export { exampleDefinition, exampleInputs, type ExampleInputs } from './example-inputs.js';
export { fingerprints, rowPrints } from './fingerprint.js';
export { functionsOf } from './functions.js';
export { afterInputs, reachable, readersOf, select } from './graph.js';
export { declaredName, jobTables } from './job-tables.js';
export { staleTables, type LastLoad } from './stale.js';
