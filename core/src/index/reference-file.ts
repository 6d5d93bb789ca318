import { readCsv } from './csv.js';
import type { FileReader } from './file-reader.js';
import { badHeader, badLine, withoutHeader } from './messages.js';

/** `reference/x.csv`: a table whose rows are the file's. */
export function referenceFile(file: FileReader, layer: string): void {
  const csv = readCsv(file.text);
  const name = file.stem;
  for (const p of csv.problems) file.problem(file.lineRange(p.line), badLine(file.path, p.line, p.message));
  if (csv.header.length === 0) file.problem({ start: 0, end: 0 }, withoutHeader);
  const seen = new Set<string>();
  for (const column of csv.header) {
    if (column === '' || seen.has(column)) file.problem(file.lineRange(1), badHeader(column));
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
