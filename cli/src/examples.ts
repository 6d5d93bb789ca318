import type { ExampleState } from '@ouvrage/api/example';
import type { Format } from './check.js';
import type { Connection } from './connection.js';
import { EXIT, type Exit, type Surroundings } from './ended.js';
import { junit, type JunitCase } from './junit.js';

/** Why an example does not hold, in words: what its rows differ in, or what failed. */
function findingOf({ verdict, outcome }: ExampleState): string {
  if (outcome?.error) {
    const { path, line, message } = outcome.error;
    return path === undefined ? message : `${path}${line === undefined ? '' : `:${line}`}: ${message}`;
  }
  const counted = (['differs', 'missing', 'extra'] as const).flatMap((kind) => {
    const n = outcome?.rows.filter((r) => r.kind === kind).length ?? 0;
    return n === 0 ? [] : `${n} ${n === 1 ? 'row' : 'rows'} ${kind === 'differs' && n > 1 ? 'differ' : kind}`;
  });
  if (counted.length > 0) return counted.join(', ');
  return verdict === 'errors' ? 'its files or its table have errors: ouvrage check names them' : 'it did not run';
}

/**
 * Runs the worked examples of tables, and tells of each.
 * @param tables those of which examples run
 * @returns 1 unless all hold
 */
export async function runExamples(
  connection: Connection,
  at: string,
  {
    tables,
    format,
    out,
  }: { readonly tables: readonly string[]; readonly format: Format; readonly out: Surroundings['out'] },
): Promise<Exit> {
  const found: ExampleState[] = [];
  for (const table of tables) found.push(...(await connection.post<ExampleState[]>(`${at}/examples/runs`, { table })));
  const open = found.filter((e) => e.verdict !== 'holds');
  const lineOf = (e: ExampleState): string =>
    `  ${e.table}, ${e.name}: ${e.verdict}${e.verdict === 'holds' ? '' : `: ${findingOf(e)}`}\n`;
  if (format === 'text')
    out(
      `${found.map(lineOf).join('')}${found.length} ${found.length === 1 ? 'example' : 'examples'}, ${open.length} not as expected\n`,
    );
  if (format === 'json')
    out(
      `${JSON.stringify(found.map((e) => ({ table: e.table, name: e.name, verdict: e.verdict, ...(e.verdict === 'holds' ? {} : { why: findingOf(e) }) })))}\n`,
    );
  if (format === 'junit') {
    const suites = new Map<string, JunitCase[]>();
    for (const e of found) {
      const failure = { message: e.verdict, text: findingOf(e) };
      suites.set(e.table, [
        ...(suites.get(e.table) ?? []),
        { name: e.name, ...(e.verdict === 'holds' ? {} : { failure }) },
      ]);
    }
    out(junit('examples', suites));
  }
  return open.length === 0 ? EXIT.well : EXIT.broken;
}
