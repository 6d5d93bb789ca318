import type { Range } from './positions.js';

/** A replacement of one stretch of a text. */
export interface Edit extends Range {
  readonly text: string;
}

/** A text made from another by edits, with the way back. */
export interface EditedText {
  readonly text: string;
  /** The offset in the original text of an offset in the edited one; inside a replacement, its start. */
  readonly original: (offset: number) => number;
}

/** Applies edits that do not overlap. An edit inside another one is dropped: the outer wins. */
export function applyEdits(text: string, edits: readonly Edit[], from = 0, to = text.length): EditedText {
  const ordered = [...edits].sort((a, b) => a.start - b.start || b.end - a.end);
  const pieces: { at: number; original: number; length: number; fixed: boolean }[] = [];
  let out = '';
  let at = from;
  const copy = (end: number) => {
    pieces.push({ at: out.length, original: at, length: end - at, fixed: false });
    out += text.slice(at, end);
  };
  for (const edit of ordered) {
    if (edit.start < at || edit.end > to) continue;
    copy(edit.start);
    pieces.push({ at: out.length, original: edit.start, length: edit.text.length, fixed: true });
    out += edit.text;
    at = edit.end;
  }
  copy(to);
  return {
    text: out,
    original: (offset) => {
      const piece = pieces.findLast((p) => p.at <= offset) ?? pieces[0]!;
      return piece.fixed ? piece.original : piece.original + Math.min(offset - piece.at, piece.length);
    },
  };
}

/** A text with something before and behind it, and the way back kept. */
export function wrapped(before: string, inner: EditedText, after: string): EditedText {
  return {
    text: before + inner.text + after,
    original: (offset) => inner.original(Math.min(Math.max(0, offset - before.length), inner.text.length)),
  };
}
