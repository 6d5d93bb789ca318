import { valueProblem } from '@ouvrage/core/language';
import type { ReferenceTable } from '@ouvrage/core/model';
import { datedColumns, LONGEST_DATED } from '@ouvrage/core/resolve';
import { parse } from 'csv-parse';
import { Readable } from 'node:stream';

const CHUNK_CHARACTERS = 65_536;

function* chunks(text: string): Generator<string> {
  for (let at = 0; at < text.length; at += CHUNK_CHARACTERS) yield text.slice(at, at + CHUNK_CHARACTERS);
}

/**
 * Reads the dates of a reference file that is too long to be looked through with the project, a piece at a time.
 * @throws Error with line, column and value of the first that is not written as ISO 8601 has it
 */
export async function checkLongDates(table: ReferenceTable, text: string, longest = LONGEST_DATED): Promise<void> {
  const dated = datedColumns(table).map(({ name, type }) => ({ name, type, at: table.header.indexOf(name) }));
  if (dated.length === 0 || text.length <= longest) return;
  const rows = Readable.from(chunks(text)).pipe(parse({ bom: true, info: true, relax_column_count: true, from: 2 }));
  for await (const { record, info } of rows as AsyncIterable<{ record: string[]; info: { lines: number } }>)
    for (const { name, type, at } of dated) {
      const value = record[at];
      const problem = value ? valueProblem(type, value) : undefined;
      if (problem !== undefined)
        throw new Error(`${table.csvPath}, line ${info.lines}: ${name}: “${value}” ${problem}`);
    }
}
