export { type Names, compileFunction, compileText } from './compile.js';
export { untypedDrift } from './drift.js';
export { type Hashing, NEWEST_HASHING, hashOf } from './hashing.js';
export type { Guard, LoadStatement, LoadStep } from './steps.js';
export { REMEMBERED, formerRememberedPlace, rememberedPlace, targetOf } from './target.js';
