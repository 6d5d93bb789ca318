import { optionOf } from '../language/contract.js';
import type { IndexedFile, Project } from '../model/project.js';
import { lineColumn } from '../sql/positions.js';

/** What says something beside names: descriptions, owners, notes, and the text of files. */
export type FoundKind = 'description' | 'owner' | 'note' | 'text';

/** A place that has all words of a search; line and column count from 1. */
export interface Found {
  readonly kind: FoundKind;
  /** What it is of: a table, a column, or a file. */
  readonly of: string;
  readonly table?: string;
  readonly path: string;
  readonly line: number;
  readonly column: number;
  /** The words with what stands around them. */
  readonly around: string;
}

/** Of each kind; more would not be read. */
const MOST_A_KIND = 12;
const AROUND = 90;

/** Texts in small letters, each made once. */
const folded = new WeakMap<IndexedFile, string>();

function foldedText(file: IndexedFile): string {
  let text = folded.get(file);
  if (text === undefined) folded.set(file, (text = file.text.toLowerCase()));
  return text;
}

/** Descriptions, owners, notes and texts in which all words of a search occur; the best of each kind first. */
export function find(project: Project, search: string): readonly Found[] {
  const words = search.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.join('').length < 2) return [];
  return [...described(project, words), ...owned(project, words), ...written(project, words)];
}

const hasAll = (text: string, words: readonly string[]) => words.every((w) => text.includes(w));

/** Beginnings of words count more than what stands within one, and short texts more than long ones. */
function rankOf(text: string, [first]: readonly string[]): number {
  const at = text.indexOf(first!);
  const isWord = at === 0 || !/[a-z0-9]/.test(text[at - 1]!);
  return (isWord ? 0 : 1000) + text.length / 10_000;
}

function best(found: readonly (Found & { readonly rank: number })[]): Found[] {
  return [...found]
    .sort((a, b) => a.rank - b.rank)
    .slice(0, MOST_A_KIND)
    .map(({ rank: _, ...f }) => f);
}

function described(project: Project, words: readonly string[]): Found[] {
  const found: (Found & { rank: number })[] = [];
  const add = (of: string, table: string, comment: string | undefined) => {
    const text = comment?.toLowerCase();
    if (text === undefined || !hasAll(text, words)) return;
    const { path, nameRange } = project.tables.get(table)!;
    const place = lineColumn(project.files.get(path)?.text ?? '', nameRange.start);
    found.push({
      kind: 'description',
      of,
      table,
      path,
      ...place,
      around: cut(comment!, text.indexOf(words[0]!)),
      rank: rankOf(text, words),
    });
  };
  for (const table of project.tables.values()) {
    add(table.fullName, table.fullName, table.comment);
    for (const c of table.contract?.columns ?? []) add(`${table.fullName}.${c.name}`, table.fullName, c.comment);
    if (table.kind === 'definition')
      for (const [name, text] of table.columnComments)
        if (!table.contract?.columns.some((c) => c.name === name && c.comment !== undefined))
          add(`${table.fullName}.${name}`, table.fullName, text);
  }
  return best(found);
}

function owned(project: Project, words: readonly string[]): Found[] {
  const found: (Found & { rank: number })[] = [];
  for (const table of project.tables.values()) {
    const owner = table.kind === 'definition' ? optionOf(table, 'owner') : undefined;
    const text = owner?.toLowerCase();
    if (text === undefined || !hasAll(text, words)) continue;
    const range = table.contract?.options.get('owner')?.range ?? table.nameRange;
    const place = lineColumn(project.files.get(table.path)?.text ?? '', range.start);
    const { fullName, path } = table;
    found.push({
      kind: 'owner',
      of: fullName,
      table: fullName,
      path,
      ...place,
      around: owner!,
      rank: rankOf(text, words),
    });
  }
  return best(found);
}

/** Files that have all words; shown is the first line that has most of them at once. */
function written(project: Project, words: readonly string[]): Found[] {
  const notes: (Found & { rank: number })[] = [];
  const texts: (Found & { rank: number })[] = [];
  for (const file of project.files.values()) {
    const text = foldedText(file);
    if (!hasAll(text, words)) continue;
    const at = text.indexOf(words.join(' '));
    const start = at >= 0 ? at : text.indexOf(words[0]!);
    const place = lineColumn(file.text, start);
    const from = start - place.column + 1;
    const to = text.indexOf('\n', start);
    const line = file.text.slice(from, to < 0 ? undefined : to);
    const isNote = file.path.endsWith('.md');
    (isNote ? notes : texts).push({
      kind: isNote ? 'note' : 'text',
      of: file.path,
      path: file.path,
      ...place,
      around: cut(line.trim(), line.trim().toLowerCase().indexOf(words[0]!)),
      rank: (at >= 0 ? 0 : 2000) + rankOf(text.slice(from, from + line.length), words),
    });
  }
  return [...best(notes), ...best(texts)];
}

/** A stretch of a text around an offset, with dots where more is cut off. */
function cut(text: string, offset: number): string {
  const whole = text.replaceAll(/\s+/g, ' ');
  if (whole.length <= AROUND) return whole;
  const from = Math.max(0, Math.min(offset - AROUND / 3, whole.length - AROUND));
  return `${from > 0 ? '…' : ''}${whole.slice(from, from + AROUND)}${from + AROUND < whole.length ? '…' : ''}`;
}
