import { noteLinks, type NoteLink } from '../../../index/note-links.js';
import { warningAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { CheckQuery, Column, IndexedFile, Layer, Table } from '../../../model/project.js';
import { nothingOfThatName } from '../../messages.js';

/** What a note can lead to. */
interface Targets {
  readonly layers: readonly Layer[];
  readonly tables: ReadonlyMap<string, Table>;
  readonly checks: ReadonlyMap<string, CheckQuery>;
  readonly columns: ReadonlyMap<string, readonly Column[] | undefined>;
}

const links = new WeakMap<IndexedFile, readonly NoteLink[]>();

function linksOf(file: IndexedFile): readonly NoteLink[] {
  let found = links.get(file);
  if (!found) links.set(file, (found = noteLinks(file.text)));
  return found;
}

/** Of one note; nobody reads on that far. */
const MOST_TOLD = 100;

/** Links of notes that lead nowhere; what does not begin with a layer is only in brackets. */
export function noteDiagnostics(files: ReadonlyMap<string, IndexedFile>, targets: Targets): Diagnostic[] {
  const layers = new Set(targets.layers.map((l) => l.name));
  const found: Diagnostic[] = [];
  for (const [path, file] of files) {
    if (!path.endsWith('.md')) continue;
    let told = 0;
    for (const { name, start, end } of linksOf(file)) {
      const known = namesBeside(name, layers, targets);
      if (known) found.push(warningAt({ path, range: { start, end } }, nothingOfThatName(name, known)));
      if (known && ++told === MOST_TOLD) break;
    }
  }
  return found;
}

/** The names among which a link's would have to be; undefined where it is right, or no link. */
function namesBeside(name: string, layers: ReadonlySet<string>, targets: Targets): readonly string[] | undefined {
  const [layer, table, column] = name.split('.') as [string, string, string?];
  if (layer === 'checks' && column === undefined)
    return targets.checks.has(table) ? undefined : [...targets.checks.keys()].map((c) => `checks.${c}`);
  if (!layers.has(layer)) return undefined;
  const full = `${layer}.${table}`;
  if (!targets.tables.has(full)) return [...targets.tables.keys()].filter((t) => t.startsWith(`${layer}.`));
  const columns = targets.columns.get(full);
  if (column === undefined || !columns || columns.some((c) => c.name === column)) return undefined;
  return columns.map((c) => `${full}.${c.name}`);
}
