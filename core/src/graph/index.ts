export { fingerprints, rowPrints } from './fingerprint.js';
export { functionsOf } from './functions.js';
export { afterInputs, reachable, readersOf, select } from './graph.js';
