/** A stretch of a text in characters (UTF-16 units), end exclusive. */
export interface Range {
  readonly start: number;
  readonly end: number;
}

/** Line and column as people count them, both from 1. */
export interface LineColumn {
  readonly line: number;
  readonly column: number;
}

/**
 * Turns the parser's byte offsets (UTF-8) into character offsets of `text`. Texts of ASCII only,
 * nearly all, cost one test.
 */
export function byteToCharacter(text: string): (byteOffset: number) => number {
  if (/^[\x00-\x7f]*$/.test(text)) return (offset) => offset;
  const characterAt: number[] = [];
  let i = 0;
  for (const symbol of text) {
    const code = symbol.codePointAt(0)!;
    const bytes = code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
    for (let b = 0; b < bytes; b++) characterAt.push(i);
    i += symbol.length;
  }
  characterAt.push(i);
  return (offset) => characterAt[Math.max(0, Math.min(offset, characterAt.length - 1))]!;
}

/** The line and column of a character offset. */
export function lineColumn(text: string, offset: number): LineColumn {
  const before = text.slice(0, Math.max(0, Math.min(offset, text.length)));
  const line = before.split('\n').length;
  return { line, column: before.length - (before.lastIndexOf('\n') + 1) + 1 };
}

/** Where each line of a text begins. */
export function startsOfLines(text: string): number[] {
  const starts = [0];
  for (let at = text.indexOf('\n'); at >= 0; at = text.indexOf('\n', at + 1)) starts.push(at + 1);
  return starts;
}

/** The range of a line, from 1, without its end. @param starts where lines begin @param length of the text */
export function rangeOfLine(starts: readonly number[], line: number, length: number): Range {
  return { start: starts[line - 1] ?? length, end: (starts[line] ?? length + 1) - 1 };
}
