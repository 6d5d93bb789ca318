import { readCsv } from './csv.js';
import type { FileReader } from './file-reader.js';

/** `reference/x.csv`: a table whose rows are the file's. */
export function referenceFile(file: FileReader, layer: string): void {
  const csv = readCsv(file.text);
  const name = file.stem;
  for (const p of csv.problems)
    file.problem('bad-reference-file', file.lineRange(p.line), p.message, `line ${p.line} of ${file.path}`);
  if (csv.header.length === 0)
    file.problem(
      'bad-reference-file',
      { start: 0, end: 0 },
      'the file has no header row',
      'the first line names the columns',
    );
  const seen = new Set<string>();
  for (const column of csv.header) {
    if (column === '' || seen.has(column))
      file.problem(
        'bad-reference-file',
        file.lineRange(1),
        column === '' ? 'a column has no name' : `column ${column} appears twice`,
      );
    seen.add(column);
  }
  file.result.tables.push({
    kind: 'reference',
    layer,
    name,
    fullName: `${layer}.${name}`,
    path: file.path,
    csvPath: file.path,
    nameRange: file.lineRange(1),
    header: csv.header,
  });
}
