import { projectAround } from '../columns/around.js';
import type { Project, Query, Table } from '../model/project.js';
import type { Edit } from '../sql/edits.js';
import type { Range } from '../sql/positions.js';
import { nameOf, tokenize, type Token } from '../sql/tokens.js';

/** What is renamed. */
export type Renaming =
  | { readonly kind: 'table'; readonly table: string; readonly to: string }
  | { readonly kind: 'column'; readonly table: string; readonly column: string; readonly to: string }
  | { readonly kind: 'layer'; readonly layer: string; readonly to: string }
  | { readonly kind: 'function'; readonly name: string; readonly to: string }
  | { readonly kind: 'parameter'; readonly name: string; readonly to: string };

/** Where something stands in the way. */
export interface Obstacle {
  readonly path: string;
  readonly message: string;
}

/** The edits of a rename, by file, and files that bear another name. */
export class RenameEdits {
  readonly edits = new Map<string, Edit[]>();
  readonly moved = new Map<string, string>();
  readonly obstacles: Obstacle[] = [];
  /** Tables whose column bears the new name. */
  readonly renamed = new Set<string>();

  add(path: string, ...edits: readonly Edit[]): void {
    this.edits.set(path, [...(this.edits.get(path) ?? []), ...edits]);
  }
}

export const rangeOf = ({ start, end }: Token) => ({ start, end });

/** Replaces whole words in a stretch of text, as in the text of an option. */
export function wordsIn(text: string, { start, end }: Range, names: ReadonlyMap<string, string>): Edit[] {
  return [...text.slice(start, end).matchAll(/[A-Za-z_][A-Za-z0-9_]*/g)].flatMap(({ 0: word, index }) => {
    const name = names.get(word);
    return name === undefined ? [] : [{ start: start + index, end: start + index + word.length, text: name }];
  });
}

/** Where the value of an option stands, from where its name does. */
export function valueOf(text: string, { start, end }: Range): Range {
  for (const token of tokenize(text, start))
    if (token.kind === 'string' || token.text === ',' || token.text === ')')
      return token.kind === 'string' ? token : { start, end };
  return { start, end };
}

/** A query of the project, with the file that it is in. */
export interface PlacedQuery {
  readonly path: string;
  readonly query: Query;
  readonly table?: Table;
}

export function queriesOf(project: Project): PlacedQuery[] {
  return [
    ...[...project.tables.values()].flatMap((table) =>
      table.kind === 'definition' && table.query ? [{ path: table.path, query: table.query, table }] : [],
    ),
    ...[...project.checks.values(), ...project.adhoc.values()].map(({ path, query }) => ({ path, query })),
  ];
}

export const aroundOf = (project: Project) => projectAround((table) => project.columns.get(table), project.functions);

/** `layer.name` as three tokens in a row, outside of some stretches. */
export function dottedNames(
  text: string,
  full: string,
  outside: readonly Range[],
): { readonly layer: Token; readonly name: Token }[] {
  const [layer, name] = full.split('.');
  const tokens = [...tokenize(text)].filter((t) => t.kind !== 'comment');
  return tokens.flatMap((token, i) => {
    const [dot, last, before] = [tokens[i + 1], tokens[i + 2], tokens[i - 1]];
    const isName =
      nameOf(token) === layer &&
      dot?.text === '.' &&
      last &&
      nameOf(last) === name &&
      before?.text !== '.' &&
      isWord(token) &&
      isWord(last);
    return isName && !outside.some((r) => r.start <= token.start && token.end <= r.end)
      ? [{ layer: token, name: last }]
      : [];
  });
}

const isWord = ({ kind }: Token) => kind === 'word' || kind === 'quoted';
