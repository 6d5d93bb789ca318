import type { Range } from '../sql/positions.js';

/** `[layer.table]`, `[layer.table.column]` or `[checks.name]` in a note; the range is that of the name. */
export interface NoteLink extends Range {
  readonly name: string;
}

/** Code first, so that what stands in it is no link; then links that have no address of their own. */
const CODE_OR_LINK = /```[\s\S]*?(?:```|$)|`[^`\n]*`|\[([a-z_][a-z0-9_]*(?:\.[a-z_][a-z0-9_]*){1,2})\](?![([:])/g;

/** The links of a note to what is in the project, in order; code is left alone. */
export function noteLinks(text: string): NoteLink[] {
  return [...text.matchAll(CODE_OR_LINK)].flatMap(({ 1: name, index }) =>
    name === undefined ? [] : [{ name, start: index + 1, end: index + 1 + name.length }],
  );
}
