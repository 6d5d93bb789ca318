export { type EditedText, wrapped } from './edits.js';
export { didYouMean, nearest } from './nearest.js';
export { loadParser, parseSql } from './parser.js';
export { lineColumn } from './positions.js';
export { ident, idents, literal, qualified } from './quote.js';
export { shortType } from './types.js';
export { sameButLayout } from './tokens.js';
