import { pageNonce } from './page-nonce';
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { EditorState, type Extension } from '@codemirror/state';
import { EditorView } from '@codemirror/view';
import { PostgreSQL, sql, SQLDialect } from '@codemirror/lang-sql';
import { tags } from '@lezer/highlight';

const highlight = HighlightStyle.define([
  { tag: [tags.keyword, tags.operatorKeyword], color: 'var(--code-key)', fontWeight: '600' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--code-string)' },
  { tag: [tags.comment, tags.lineComment, tags.blockComment], color: 'var(--code-comment)', fontStyle: 'italic' },
  { tag: [tags.typeName, tags.standard(tags.name)], color: 'var(--code-name)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--code-string)' },
]);

const look = EditorView.theme({
  '&': { height: '100%', fontSize: '12.5px', color: 'var(--ink)', backgroundColor: 'var(--sheet)' },
  '&.cm-focused': { outline: 'none' },
  '.cm-scroller': { fontFamily: 'var(--font-mono, "IBM Plex Mono", monospace)', lineHeight: '19px' },
  '.cm-content': { padding: '8px 0', caretColor: 'var(--ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '.cm-gutters': { backgroundColor: 'var(--sheet)', color: 'var(--soft)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'color-mix(in srgb, var(--wash) 45%, transparent)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--wash) !important' },
  '.cm-matchingBracket': { backgroundColor: 'var(--wash)', outline: '1px solid var(--rule)' },
  '.cm-tooltip': {
    backgroundColor: 'var(--raised)',
    border: '1px solid var(--rule)',
    color: 'var(--ink)',
    borderRadius: '2px',
  },
  '.cm-tooltip-autocomplete > ul > li': {
    fontFamily: '"IBM Plex Mono", monospace',
    fontSize: '12px',
    padding: '2px 8px !important',
  },
  '.cm-tooltip-autocomplete > ul > li[aria-selected]': {
    backgroundColor: 'var(--wash) !important',
    color: 'var(--ink) !important',
  },
  '.cm-completionDetail': { color: 'var(--soft)', fontStyle: 'normal', marginLeft: '1em' },
  '.cm-diagnostic': { fontFamily: '"IBM Plex Sans", sans-serif', padding: '4px 8px' },
  '.cm-diagnosticAction': {
    backgroundColor: 'transparent',
    color: 'var(--plan)',
    fontSize: '13px',
    fontWeight: '500',
    padding: '0 4px',
  },
  '.cm-diagnosticAction:hover': { textDecoration: 'underline' },
  '.cm-lint-marker': { width: '9px', height: '9px', margin: '5px 2px' },
  '.cm-lint-marker-error': { content: 'normal', backgroundColor: 'var(--broken)' },
  '.cm-lint-marker-warning': { content: 'normal', backgroundColor: 'var(--advisory)' },
  '.cm-diagnostic-error': { borderLeft: '3px solid var(--broken)' },
  '.cm-diagnostic-warning': { borderLeft: '3px solid var(--advisory)' },
  '.cm-lintRange-error': { backgroundImage: 'none', borderBottom: '2px solid var(--broken)' },
  '.cm-lintRange-warning': { backgroundImage: 'none', borderBottom: '2px solid var(--advisory)' },
  '.cm-leftover': { textDecoration: 'underline dotted var(--rule)', textUnderlineOffset: '3px' },
  '.cm-leftover, .cm-leftover *': { color: 'var(--soft) !important' },
  '.cm-panels': { backgroundColor: 'var(--paper)', color: 'var(--ink)' },
  '.cm-collapsedLines': {
    background: 'var(--paper)',
    color: 'var(--soft)',
    fontFamily: '"IBM Plex Sans", sans-serif',
    fontSize: '12px',
  },
  '.cm-collapsedLines:before, .cm-collapsedLines:after': { content: '""', margin: '0' },
  '.cm-changeGutter': { width: '3px', paddingLeft: '0' },
  '.remarked': { boxShadow: 'inset 3px 0 var(--plan)' },
  '.cm-changedLineGutter': { background: 'var(--holds) !important' },
  '.cm-deletedLineGutter': { background: 'var(--broken) !important' },
  '.cm-changedLine': { backgroundColor: 'color-mix(in srgb, var(--holds) 7%, transparent) !important' },
  '&.cm-merge-a .cm-changedLine, .cm-deletedChunk': {
    backgroundColor: 'color-mix(in srgb, var(--broken) 7%, transparent) !important',
  },
  '.cm-changedText': { background: 'color-mix(in srgb, var(--holds) 12%, transparent) !important' },
  '&.cm-merge-a .cm-changedText, .cm-deletedChunk .cm-deletedText': {
    background: 'color-mix(in srgb, var(--broken) 12%, transparent) !important',
  },
});

/** Statements in the bodies of blocks and procedures, which are strings to PostgreSQL, look like statements. */
export const WITH_BODIES = SQLDialect.define({ ...PostgreSQL.spec, doubleDollarQuotedStrings: false });

/** Colours, SQL, and the nonce: what every view of code has. */
export function codeLook(path = 'x.sql', dialect = PostgreSQL): Extension[] {
  return [
    path.endsWith('.sql') ? sql({ dialect }) : [],
    syntaxHighlighting(highlight),
    look,
    EditorView.cspNonce.of(pageNonce()),
    EditorState.tabSize.of(2),
  ];
}
