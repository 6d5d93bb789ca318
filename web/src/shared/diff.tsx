import { MergeView, unifiedMergeView } from '@codemirror/merge';
import { EditorState } from '@codemirror/state';
import { Decoration, EditorView, lineNumbers } from '@codemirror/view';
import { useEffect, useRef } from 'react';
import { codeLook, WITH_BODIES } from './code';

const still = (path: string, onLine?: (line: number) => void, numbered?: (line: number) => string) => [
  lineNumbers({
    ...(numbered ? { formatNumber: numbered } : {}),
    ...(onLine
      ? {
          domEventHandlers: {
            mousedown: (view, block) => {
              onLine(view.state.doc.lineAt(block.from).number);
              return true;
            },
          },
        }
      : {}),
  }),
  EditorState.readOnly.of(true),
  EditorView.editable.of(false),
  EditorView.contentAttributes.of({ tabindex: '0' }),
  codeLook(path),
];
const labelled = (label: string) => EditorView.contentAttributes.of({ 'aria-label': label });

/** Lines that are marked, from 1; those that the text does not have are left out. */
const markedLines = (lines: readonly number[]) =>
  EditorView.decorations.of((view) => {
    const known = [...new Set(lines)].filter((n) => n <= view.state.doc.lines).sort((a, b) => a - b);
    return Decoration.set(known.map((n) => MARK.range(view.state.doc.line(n).from)));
  });
const MARK = Decoration.line({ class: 'remarked' });
const NONE: readonly number[] = [];

/**
 * Two texts, one over the other or side by side, with what differs marked.
 * @param marked lines of the later text that are marked
 * @param onLine is given the line of the later text whose number was chosen
 * @param numbered what is beside a line of the later text, from 1; its number where nothing is given
 */
export function Diff({
  path,
  before,
  after,
  sideBySide,
  marked = NONE,
  onLine,
  numbered,
}: {
  path: string;
  before: string;
  after: string;
  sideBySide?: boolean;
  marked?: readonly number[];
  onLine?: (line: number) => void;
  numbered?: (line: number) => string;
}) {
  const place = useRef<HTMLDivElement>(null);
  const lines = marked.join(' ');
  useEffect(() => {
    if (sideBySide) {
      const view = new MergeView({
        parent: place.current!,
        a: { doc: before, extensions: [still(path), labelled(`${path} before`)] },
        b: { doc: after, extensions: [still(path), labelled(`${path} after`)] },
        collapseUnchanged: { margin: 4 },
      });
      return () => view.destroy();
    }
    const view = new EditorView({
      parent: place.current!,
      doc: after,
      extensions: [
        still(path, onLine, numbered),
        markedLines(lines === '' ? [] : lines.split(' ').map(Number)),
        labelled(`${path}, changes`),
        unifiedMergeView({ original: before, mergeControls: false, collapseUnchanged: { margin: 4 } }),
      ],
    });
    return () => view.destroy();
  }, [path, before, after, sideBySide, lines, onLine, numbered]);
  return <div ref={place} className="h-full min-h-0 overflow-auto" />;
}

/** A text of SQL to read and copy. @param tall takes the height that it is given, not a third of the page */
export function Sql({ text, label = 'SQL', tall }: { text: string; label?: string; tall?: boolean }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const view = new EditorView({
      parent: place.current!,
      doc: text,
      extensions: [
        EditorState.readOnly.of(true),
        EditorView.editable.of(false),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ tabindex: '0', 'aria-label': label }),
        codeLook('x.sql', WITH_BODIES),
      ],
    });
    return () => view.destroy();
  }, [text, label]);
  return (
    <div
      ref={place}
      className={`overflow-auto [&_.cm-content]:px-2! ${tall ? 'h-full' : 'max-h-80 border border-line'}`}
    />
  );
}
