import { applyEdits } from '../sql/edits.js';
import type { IndexedFile } from '../model/project.js';

/** A layer's statement as it is in `layers.sql`. */
export interface LayerStatement {
  readonly name: string;
  readonly start: number;
  readonly end: number;
}

export const layerStatements = (file: IndexedFile): LayerStatement[] =>
  file.layers.map((l) => ({ name: l.name, start: l.range.start, end: l.range.end }));

/** The text with its layers in another order: statements change places, all else stays where it is. */
export function layersInOrder(text: string, layers: readonly LayerStatement[], order: readonly string[]): string {
  const textOf = (name: string) => {
    const { start, end } = layers.find((l) => l.name === name)!;
    return text.slice(start, end);
  };
  const edits = layers.map((place, i) => ({ start: place.start, end: place.end, text: textOf(order[i]!) }));
  return applyEdits(text, edits).text;
}
