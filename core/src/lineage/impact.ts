import type { Step } from '../columns/value.js';
import type { Diagnostic } from '../model/diagnostic.js';
import type { Definition, IndexedFile, Project } from '../model/project.js';
import { expressionRange } from '../sql/expression-range.js';
import { nextToken, withoutLayout } from '../sql/tokens.js';
import { columnId, rowsId } from './edges.js';
import { lineageOf } from './graph.js';
import { flattened, tracedColumns, wayForward } from './trace.js';

/** What an edit does elsewhere. */
export interface Impact {
  /** Errors of other files that were not there before. */
  readonly breaks: readonly Diagnostic[];
  /** Columns whose values may change, those of the edited tables first. */
  readonly values: readonly string[];
  /** Tables whose rows may be others. */
  readonly rows: readonly string[];
}

/**
 * What changes between two readings of a project: which other files break, whose values and whose rows change, through
 * all that reads them.
 */
export function impactOf(before: Project, after: Project): Impact {
  const edited = [...after.tables.values()].filter((t): t is Definition => {
    const old = before.tables.get(t.fullName);
    return t.kind === 'definition' && old !== undefined && old !== t && isEdited(before, after, t.path);
  });
  const starts = edited.flatMap((table) => changesOf(before, after, table));
  const values = new Set(starts.filter((id) => !id.endsWith('.*')));
  const rows = new Set(starts.flatMap((id) => (id.endsWith('.*') ? [id.slice(0, -2)] : [])));
  for (const id of starts) {
    const reached = wayForward(after, id);
    for (const to of reached.values) values.add(to.id);
    for (const to of reached.influenced) values.add(to);
    for (const to of reached.rows) rows.add(to);
  }
  return { breaks: breaks(before, after), values: [...values], rows: [...rows] };
}

/** Two readings may hold one text as two files. */
function isEdited(before: Project, after: Project, path: string): boolean {
  const [old, now] = [before.files.get(path), after.files.get(path)];
  return old !== now && old?.text !== now?.text;
}

/** Errors of files that are as they were. */
function breaks(before: Project, after: Project): readonly Diagnostic[] {
  const keyOf = (d: Diagnostic) => `${d.path} ${d.code} ${d.message}`;
  const known = new Set(before.diagnostics.map(keyOf));
  return after.diagnostics.filter(
    (d) => d.severity === 'error' && !isEdited(before, after, d.path) && !known.has(keyOf(d)),
  );
}

/** The columns of a table whose values an edit changes, and `layer.table.*` where it changes which rows there are. */
function changesOf(before: Project, after: Project, table: Definition): readonly string[] {
  const old = before.tables.get(table.fullName);
  if (old?.kind !== 'definition' || !old.query || !table.query) return [];
  const [was, is] = [written(before, old), written(after, table)];
  if (!was || !is) return [];
  const columns = [...is.columns].flatMap(([name, text]) => {
    const type = (project: Project) => project.columns.get(table.fullName)?.find((c) => c.name === name)?.type;
    const isSame = was.columns.get(name) === text && type(before) === type(after);
    return isSame || !was.columns.has(name) ? [] : [columnId(table.fullName, name)];
  });
  const isSameRows =
    was.rows === is.rows &&
    lineageOf(before).rows(table.fullName).join() === lineageOf(after).rows(table.fullName).join();
  return isSameRows ? columns : [...columns, rowsId(table.fullName)];
}

interface Written {
  /** What makes each column, layout left out. */
  readonly columns: ReadonlyMap<string, string>;
  /** The rest of the query, and what its conditions are made from. */
  readonly rows: string;
}

function written(project: Project, table: Definition): Written | undefined {
  const file = project.files.get(table.path);
  const traced = tracedColumns(project, table);
  if (!file?.at || !traced?.columns || !table.query) return undefined;
  const all = new Map<number, string>();
  const ownText = ({ location, name }: Step): string => {
    if (location === undefined) return '';
    const known = all.get(location);
    if (known !== undefined) return known;
    const range = expressionRange(file.text, file.at!(location), name);
    const text = withoutLayout(file.text, range.start, range.end);
    all.set(location, text);
    return text;
  };
  const textOf = (step: Step): string => flattened(step).map(ownText).join('\u0000');
  const columns = new Map(traced.columns.map(({ name, step }) => [name, step ? textOf(step) : '']));
  const ofRows = traced.rows.map(textOf).join('\u0000');
  return { columns, rows: `${restOf(file, table, [...all.keys()])}\u0000${ofRows}` };
}

/** Behind the name of a column and the comma: a list that is longer or shorter has the same rows. */
function afterName(text: string, end: number): number {
  let at = end;
  let token = nextToken(text, at);
  if (token?.text.toLowerCase() === 'as') {
    at = nextToken(text, token.end)?.end ?? token.end;
    token = nextToken(text, at);
  }
  return token?.text === ',' ? token.end : at;
}

/** The text of a query without its columns: their expressions and names. */
function restOf(file: IndexedFile, table: Definition, locations: readonly number[]): string {
  const { start, end } = table.query!;
  const ranges = locations.map((l) => expressionRange(file.text, file.at!(l), '')).sort((a, b) => a.start - b.start);
  const parts: string[] = [];
  let at = start;
  for (const range of ranges) {
    if (range.start < at) continue;
    parts.push(withoutLayout(file.text, at, range.start));
    at = afterName(file.text, range.end);
  }
  return [...parts, withoutLayout(file.text, at, end)].join('');
}
