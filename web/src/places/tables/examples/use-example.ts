import type { ExampleOutcome, ExampleRow } from '@ouvrage/api/example';
import type { ExamplePart } from '@ouvrage/core/model';
import { csvText, examplePath } from '@ouvrage/core/index';
import { keepsRows } from '@ouvrage/core/language';
import { useProject } from '../../../data/project';
import type { ExampleSummary, TableSummary } from '../../../worker/protocol';

type File = ExampleSummary['files'][number];

const ORDER: Readonly<Record<ExamplePart['kind'], number>> = {
  params: 0,
  each: 1,
  target: 2,
  member: 3,
  input: 4,
  result: 5,
};

/** Files of an example as people read them: what is before, each load's inputs, the result. */
export const inOrder = (files: readonly File[]): readonly File[] =>
  [...files].sort(
    (a, b) =>
      ORDER[a.part.kind] - ORDER[b.part.kind] ||
      (a.part.kind === 'input' && b.part.kind === 'input' ? a.part.load - b.part.load : 0) ||
      (a.path < b.path ? -1 : 1),
  );

/** What a file of an example is, in words. @param loads how many loads the example has */
export function partWords(part: ExamplePart, loads: number): string {
  switch (part.kind) {
    case 'input':
      return loads > 1 ? `Load ${part.load}: ${part.table}` : `Input ${part.table}`;
    case 'member':
      return `Members of ${part.table}`;
    case 'target':
      return 'The table before';
    case 'params':
      return 'Time and parameters';
    case 'each':
      return 'Row of the list';
    case 'result':
      return 'Rows to expect';
  }
}

/** The columns that a file of an example can have, with their types. */
export function usePartColumns(table: TableSummary, part: ExamplePart): readonly { name: string; type?: string }[] {
  const { tables, summary } = useProject();
  switch (part.kind) {
    case 'params':
      return [{ name: 'now', type: 'timestamptz' }, ...summary.parameters.map(({ name }) => ({ name, type: 'text' }))];
    case 'each':
      return [];
    case 'input':
    case 'member':
      return tables.get(part.table)?.columns ?? [];
    case 'target':
    case 'result':
      return table.columns ?? [];
  }
}

/** The text of `result.csv` that expects what was made; a cell that meant the same stays as it was written. */
export function asExpected({ columns, rows }: Pick<ExampleOutcome, 'columns' | 'rows'>): string {
  const made = rows.filter((r): r is ExampleRow & { actual: NonNullable<ExampleRow['actual']> } => r.actual !== null);
  const values = made.map((r) =>
    r.actual.map((value, at) => (r.expected && !r.cells.includes(at) ? (r.expected[at] ?? null) : value)),
  );
  return csvText(columns, values);
}

interface Addition {
  readonly key: string;
  readonly words: string;
  readonly files: readonly { readonly path: string; readonly after: string }[];
}

/** Files that can be added to an example, in words. @param textOf the text of a file */
export function additions(
  { table, name, files }: ExampleSummary,
  of: TableSummary,
  textOf: (path: string) => string | undefined,
): readonly Addition[] {
  const folder = { table, example: name };
  const has = (kind: ExamplePart['kind']) => files.some((f) => f.part.kind === kind);
  const found: Addition[] = [];
  const path = (kind: 'params' | 'target') => examplePath(folder, { kind });
  if (!has('params'))
    found.push({
      key: 'params',
      words: 'Time and parameters',
      files: [{ path: path('params'), after: 'now\n2000-01-01 00:00:00+00\n' }],
    });
  const { policy } = of;
  if (policy === 'intake' || policy === 'reference' || !keepsRows({ policy })) return found;
  if (!has('target')) {
    const given = (of.columns ?? []).filter((c) => c.role === undefined).map((c) => c.name);
    found.push({
      key: 'target',
      words: 'The table before',
      files: [{ path: path('target'), after: csvText(given, []) }],
    });
  }
  const load = loadsOf(files) + 1;
  const inputs = new Map(
    inOrder(files).flatMap(({ part, path: file }) => (part.kind === 'input' ? [[part.table, file] as const] : [])),
  );
  found.push({
    key: 'load',
    words: `Load ${load}, with the rows of the one before`,
    files: [...inputs].map(([input, from]) => ({
      path: examplePath(folder, { kind: 'input', table: input, load }, 'several'),
      after: textOf(from) ?? '',
    })),
  });
  return found;
}

/** How many loads an example has. */
export const loadsOf = (files: readonly File[]): number =>
  Math.max(1, ...files.map(({ part }) => (part.kind === 'input' ? part.load : 1)));
