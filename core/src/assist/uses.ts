import type { Project } from '../model/project.js';
import { lineColumn, type Range } from '../sql/positions.js';
import { renameColumnEdits } from './rename-column.js';
import { RenameEdits, type Obstacle, type Renaming } from './rename-edits.js';
import { renameLayerEdits } from './rename-layer.js';
import { renameInExamples } from './rename-examples.js';
import { renameFunctionEdits, renameParameterEdits } from './rename-other.js';
import { renameTableEdits } from './rename-table.js';

type WithoutName<T> = T extends unknown ? Omit<T, 'to'> : never;

/** Something that has a name in the project. */
export type Named = WithoutName<Renaming>;

/** A place at which a name stands: line and column count from 1, `around` is its line. */
export interface Use extends Range {
  readonly path: string;
  readonly line: number;
  readonly column: number;
  readonly around: string;
}

export interface Uses {
  /** By path, in the order of the texts. */
  readonly places: readonly Use[];
  /** Files that may use it in ways that cannot be listed. */
  readonly unsure: readonly Obstacle[];
}

/** A name that nothing has: places are those that a rename to it would change. */
const NOBODY = 'nobody_has_this_name';

/** All places of the project at which something is declared, made or read. */
export function usesOf(project: Project, what: Named): Uses {
  const edits = new RenameEdits();
  switch (what.kind) {
    case 'table':
      renameTableEdits(project, { ...what, to: `${what.table.split('.')[0]}.${NOBODY}` }, edits);
      break;
    case 'column':
      renameColumnEdits(project, { ...what, to: NOBODY }, edits);
      break;
    case 'layer':
      renameLayerEdits(project, { ...what, to: NOBODY }, edits);
      break;
    case 'function':
      renameFunctionEdits(project, { ...what, to: NOBODY }, edits);
      break;
    case 'parameter':
      renameParameterEdits(project, { ...what, to: NOBODY }, edits);
      break;
  }
  renameInExamples(project, { ...what, to: NOBODY } as Renaming, edits);
  const places = [...edits.edits].flatMap(([path, list]) => {
    const { text } = project.files.get(path)!;
    // What a rename puts in between, as the former name, is no use.
    const ranges = new Map(list.filter((e) => e.end > e.start).map((e) => [e.start, e]));
    return [...ranges.values()].map(({ start, end }) => placeOf(path, text, { start, end }));
  });
  places.sort((a, b) => (a.path < b.path ? -1 : a.path > b.path ? 1 : a.start - b.start));
  return { places: oncePerLine(places, what), unsure: edits.obstacles };
}

/** A table's layer and name are two tokens in some places, and one use. */
function oncePerLine(places: readonly Use[], what: Named): Use[] {
  if (what.kind !== 'table') return [...places];
  const found: Use[] = [];
  for (const place of places) {
    const before = found.at(-1);
    const isName =
      before?.path === place.path && before.end + 1 === place.start && place.around[place.column - 2] === '.';
    if (isName) found.splice(-1, 1, { ...before, end: place.end });
    else found.push(place);
  }
  return found;
}

const LONGEST_LINE = 200;

function placeOf(path: string, text: string, { start, end }: Range): Use {
  const { line, column } = lineColumn(text, start);
  const from = start - column + 1;
  const to = text.indexOf('\n', start);
  const around = text.slice(from, Math.min(to < 0 ? text.length : to, from + LONGEST_LINE));
  return { path, start, end, line, column, around };
}
