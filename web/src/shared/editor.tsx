import { autocompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import { bracketMatching } from '@codemirror/language';
import { lintGutter, setDiagnostics, type Action, type Diagnostic as Shown } from '@codemirror/lint';
import { Compartment, EditorState, Prec, StateEffect, StateField } from '@codemirror/state';
import {
  Decoration,
  type DecorationSet,
  EditorView,
  highlightActiveLine,
  hoverTooltip,
  keymap,
  lineNumbers,
  type Tooltip,
} from '@codemirror/view';
import { useEffect, useImperativeHandle, useRef, type Ref } from 'react';
import { type Leftover, quickFix } from '@ouvrage/core/assist';
import type { CompletionAnswer, Explained, PlacedDiagnostic } from '../worker/protocol';
import { codeLook } from './code';

export interface EditorHandle {
  /** Puts the cursor at an offset and shows it. */
  readonly goTo: (offset: number) => void;
  /** Shows an offset; the cursor stays where it is. */
  readonly show: (offset: number) => void;
}

interface EditorProps {
  readonly path: string;
  readonly text: string;
  readonly readOnly: boolean;
  readonly diagnostics: readonly PlacedDiagnostic[];
  readonly onChange: (text: string) => void;
  readonly onPreview: () => void;
  readonly onKeep: () => void;
  readonly complete: (text: string, offset: number) => Promise<CompletionAnswer | null>;
  readonly explain: (text: string, offset: number) => Promise<Explained | null>;
  /** What is perhaps left over: it is drawn faintly. */
  readonly leftovers?: readonly Leftover[] | undefined;
  /** Alt and U ask for all uses of the name at the cursor. */
  readonly onUses?: (named: NonNullable<Explained['named']>) => void;
  /** Ctrl and a click lead to the table or column that a name means. */
  readonly onOpen?: (target: NonNullable<Explained['target']>) => void;
  /** A stretch of the text that is marked. */
  readonly mark?: { readonly start: number; readonly end: number } | undefined;
  /** Told what is selected; undefined where it is only the cursor. */
  readonly onSelect?: ((stretch: { readonly start: number; readonly end: number } | undefined) => void) | undefined;
  readonly handle?: Ref<EditorHandle>;
}

const KINDS: Readonly<Record<string, string>> = {
  table: 'class',
  column: 'property',
  alias: 'variable',
  keyword: 'keyword',
  function: 'function',
  layer: 'namespace',
  option: 'property',
};

/** The SQL editor: one instance a file, told from outside of a new text and new diagnostics. */
export function Editor(props: EditorProps) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const current = useRef(props);
  const locked = useRef(new Compartment());
  useEffect(() => {
    current.current = props;
  });

  useEffect(() => {
    const run = (act: () => void) => () => (act(), true);
    const made = new EditorView({
      parent: place.current!,
      state: EditorState.create({
        doc: current.current.text,
        extensions: [
          Prec.highest(
            keymap.of([
              { key: 'Mod-Enter', run: run(() => current.current.onPreview()) },
              { key: 'Alt-u', run: (editor) => (void uses(editor, current.current), true), preventDefault: true },
              { key: 'Mod-s', run: run(() => current.current.onKeep()), preventDefault: true },
            ]),
          ),
          lineNumbers(),
          history(),
          bracketMatching(),
          highlightActiveLine(),
          lintGutter(),
          autocompletion({ override: [(context) => completions(context, current.current.complete)], icons: false }),
          hoverTooltip((editor, offset) => explanation(editor, offset, current.current.explain)),
          EditorView.domEventHandlers({
            mousedown: (event, editor) => {
              if (!event.ctrlKey && !event.metaKey) return false;
              const offset = editor.posAtCoords(event);
              if (offset !== null) void open(editor, offset, current.current);
              return offset !== null;
            },
          }),
          keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
          codeLook(current.current.path),
          current.current.path.endsWith('.md') ? EditorView.lineWrapping : [],
          locked.current.of(lock(current.current.readOnly)),
          EditorView.contentAttributes.of({ tabindex: '0', 'aria-label': `SQL of ${current.current.path}` }),
          marked,
          faint,
          EditorView.updateListener.of((update) => {
            if (update.docChanged) current.current.onChange(update.state.doc.toString());
            if (update.selectionSet) current.current.onSelect?.(selectionOf(update.state));
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, [props.path]);

  useEffect(() => {
    const editor = view.current!;
    const before = editor.state.doc.toString();
    if (before !== props.text) editor.dispatch({ changes: difference(before, props.text) });
  }, [props.text]);

  useEffect(
    () => view.current!.dispatch({ effects: locked.current.reconfigure(lock(props.readOnly)) }),
    [props.readOnly],
  );

  useEffect(() => {
    const editor = view.current!;
    const length = editor.state.doc.length;
    const now = editor.state.doc.toString();
    const shown = props.diagnostics.map((d): Shown => {
      const from = Math.min(d.range.start, length);
      return {
        from,
        to: Math.min(Math.max(d.range.end, from), length),
        severity: d.severity,
        message: d.message + (d.hint ? `\n${d.hint}` : ''),
        actions: props.readOnly ? [] : fixes(d, now),
      };
    });
    editor.dispatch(setDiagnostics(editor.state, shown));
  }, [props.diagnostics, props.readOnly]);

  useEffect(() => view.current!.dispatch({ effects: setMark.of(props.mark) }), [props.mark]);
  useEffect(() => view.current!.dispatch({ effects: setFaint.of(props.leftovers ?? []) }), [props.leftovers]);

  useImperativeHandle(props.handle, () => ({
    goTo: (offset) => {
      const at = Math.min(offset, view.current!.state.doc.length);
      view.current!.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: 'center' }) });
      view.current!.focus();
    },
    show: (offset) => {
      const at = Math.min(offset, view.current!.state.doc.length);
      view.current!.dispatch({ effects: EditorView.scrollIntoView(at, { y: 'center' }) });
    },
  }));

  return <div ref={place} className="h-full min-h-0 overflow-hidden" />;
}

type Mark = EditorProps['mark'];
const setMark = StateEffect.define<Mark>();

/** The marked stretch: it moves with the text around it, and goes when it is edited away. */
const marked = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(marks, transaction) {
    let next = marks.map(transaction.changes);
    for (const effect of transaction.effects) {
      if (!effect.is(setMark)) continue;
      const end = Math.min(effect.value?.end ?? 0, transaction.state.doc.length);
      const start = effect.value?.start ?? 0;
      next = start < end ? Decoration.set([Decoration.mark({ class: 'bg-wash' }).range(start, end)]) : Decoration.none;
    }
    return next;
  },
  provide: (field) => EditorView.decorations.from(field),
});

const setFaint = StateEffect.define<readonly Leftover[]>();

/** What is perhaps left over: soft ink and a dotted line; what it is says its title. */
const faint = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(marks, transaction) {
    let next = marks.map(transaction.changes);
    for (const effect of transaction.effects) {
      if (!effect.is(setFaint)) continue;
      const { length } = transaction.state.doc;
      next = Decoration.set(
        effect.value
          .filter(({ start, end }) => start < end && end <= length)
          .map(({ start, end, message }) =>
            Decoration.mark({ class: 'cm-leftover', attributes: { title: message } }).range(start, end),
          ),
        true,
      );
    }
    return next;
  },
  provide: (field) => EditorView.decorations.from(field),
});

const selectionOf = ({ selection: { main } }: EditorState): Mark =>
  main.empty ? undefined : { start: main.from, end: main.to };

/** What can be done about a diagnostic in one click: the name that was probably meant is put in. */
function fixes(diagnostic: PlacedDiagnostic, text: string): Action[] {
  const fix = quickFix(text, diagnostic);
  if (!fix) return [];
  return [
    {
      name: `Replace with ${fix.insert}`,
      apply: (editor) => {
        const found = quickFix(editor.state.doc.toString(), diagnostic);
        if (found) editor.dispatch({ changes: { from: found.start, to: found.end, insert: found.insert } });
      },
    },
  ];
}

const lock = (readOnly: boolean) => [EditorState.readOnly.of(readOnly), EditorView.editable.of(true)];

/** The stretch in which two texts differ: what stands around it keeps its place, and the cursor too. */
function difference(before: string, after: string): { from: number; to: number; insert: string } {
  const shorter = Math.min(before.length, after.length);
  let from = 0;
  while (from < shorter && before[from] === after[from]) from++;
  let same = 0;
  while (same < shorter - from && before[before.length - 1 - same] === after[after.length - 1 - same]) same++;
  return { from, to: before.length - same, insert: after.slice(from, after.length - same) };
}

/** Leads to what the name at an offset means. */
async function open(editor: EditorView, offset: number, { explain, onOpen }: EditorProps): Promise<void> {
  const target = (await explain(editor.state.doc.toString(), offset))?.target;
  if (target) onOpen?.(target);
}

/** Asks for all uses of what bears the name at the cursor. */
async function uses(editor: EditorView, { explain, onUses }: EditorProps): Promise<void> {
  const named = (await explain(editor.state.doc.toString(), editor.state.selection.main.head))?.named;
  if (named) onUses?.(named);
}

/** What a word means, beside it: an option of a contract, a table, a column. */
async function explanation(
  editor: EditorView,
  offset: number,
  explain: EditorProps['explain'],
): Promise<Tooltip | null> {
  const found = await explain(editor.state.doc.toString(), offset);
  if (!found) return null;
  const create = () => {
    const dom = document.createElement('div');
    dom.className = 'max-w-95 px-2.5 py-1.5 text-note';
    const title = dom.appendChild(document.createElement('strong'));
    title.textContent = found.title;
    dom.appendChild(document.createElement('p')).textContent = found.help;
    return { dom };
  };
  return { pos: found.start, end: found.end, create };
}

async function completions(
  context: CompletionContext,
  complete: EditorProps['complete'],
): Promise<CompletionResult | null> {
  if (!context.explicit && !/[\w$.[]$/.test(context.state.sliceDoc(Math.max(0, context.pos - 1), context.pos)))
    return null;
  const answer = await complete(context.state.doc.toString(), context.pos);
  if (!answer) return null;
  return {
    from: answer.from,
    options: answer.options.map((o) => ({
      label: o.label,
      type: KINDS[o.kind] ?? 'text',
      boost: o.kind === 'keyword' ? -1 : 0,
      ...(o.detail ? { detail: o.detail } : {}),
      ...(o.apply ? { apply: o.apply } : {}),
    })),
    validFor: /^[\w$]*$/,
  };
}
