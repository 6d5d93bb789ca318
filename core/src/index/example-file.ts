import type { ExamplePart } from '../model/project.js';
import { readCsv } from './csv.js';
import type { FileReader } from './file-reader.js';
import { badHeader, badLine, misplacedExample, withoutHeader } from './messages.js';

/** Of `2.input.staging.berth`: the load, and the table. */
const ROWS_OF = /^(?:([1-9]\d?)\.)?(input|member)\.([^.]+\.[^.]+)$/;

/** What a file of an example gives, by its name without `.csv`; undefined for names that mean nothing. */
export function examplePart(stem: string): ExamplePart | undefined {
  if (stem === 'target' || stem === 'result' || stem === 'params' || stem === 'each') return { kind: stem };
  const [, load, kind, table] = ROWS_OF.exec(stem) ?? [];
  if (table === undefined) return undefined;
  if (kind === 'input') return { kind, table, load: Number(load ?? 1) };
  return load === undefined ? { kind: 'member', table } : undefined;
}

/** The path of an example's file. @param loads whether the example has several loads, which inputs then say */
export function examplePath(
  { table, example }: { readonly table: string; readonly example: string },
  part: ExamplePart,
  loads: 'one' | 'several' = 'one',
): string {
  const name =
    part.kind === 'input'
      ? `${loads === 'several' ? `${part.load}.` : ''}input.${part.table}`
      : part.kind === 'member'
        ? `member.${part.table}`
        : part.kind;
  return `examples/${table}/${example}/${name}.csv`;
}

/** `examples/<layer>.<table>/<example>/<part>.csv`. */
export function exampleFile(file: FileReader): void {
  const [, table, example, name] = file.path.split('/');
  const part = name === undefined ? undefined : examplePart(file.stem);
  if (table === undefined || example === undefined || !part || file.path.split('/').length !== 4)
    return file.problem({ start: 0, end: 0 }, misplacedExample);
  const csv = readCsv(file.text);
  for (const p of csv.problems) file.problem(file.lineRange(p.line), badLine(file.path, p.line, p.message));
  if (csv.header.length === 0) return file.problem({ start: 0, end: 0 }, withoutHeader);
  const seen = new Set<string>();
  for (const column of csv.header) {
    if (column === '' || seen.has(column)) file.problem(file.lineRange(1), badHeader(column));
    seen.add(column);
  }
  // Lines of another length than the header's are told of above; what they hold cannot be placed.
  const wrong = new Set(csv.problems.map((p) => p.line));
  const sound = csv.rows.flatMap((row, i) => (wrong.has(csv.lines[i]!) ? [] : [{ row, line: csv.lines[i]! }]));
  file.result.examples.push({
    path: file.path,
    table,
    example,
    part,
    header: csv.header,
    rows: sound.map((s) => s.row),
    headerRange: file.lineRange(1),
    ranges: sound.map((s) => file.lineRange(s.line)),
  });
}
