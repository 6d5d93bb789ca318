export { fingerprints } from './fingerprint.js';
export { functionsOf } from './functions.js';
export { afterInputs, reachable, readersOf, select } from './graph.js';
