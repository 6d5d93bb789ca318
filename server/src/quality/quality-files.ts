import type { CheckPoint, CheckState } from '@ouvrage/api/quality';
import { csvField } from '@ouvrage/core/index';
import type { Sent } from '../shared/answers.js';

/** Verdicts as CSV, a line each. */
export async function* verdictsAsCsv(
  batches: AsyncIterable<readonly (Sent<CheckPoint> & { readonly table: string })[]>,
): AsyncGenerator<string> {
  const line = (values: readonly (string | null)[]) => `${values.map(csvField).join(',')}\r\n`;
  yield line(['table', 'check', 'verdict', 'rows at fault', 'rows', 'at', 'run']);
  for await (const points of batches)
    yield points
      .map((p) => line([p.table, p.id, p.verdict, p.atFault, p.total, new Date(p.at).toISOString(), String(p.run)]))
      .join('');
}

/** Checks with their newest verdicts as JUnit XML: a suite a table, broken ones as failures, those not run as skipped. */
export function verdictsAsJunit(environment: string, checks: readonly Sent<CheckState>[]): string {
  const tables = new Map<string, Sent<CheckState>[]>();
  for (const c of checks) tables.set(c.table, [...(tables.get(c.table) ?? []), c]);
  return [
    '<?xml version="1.0" encoding="UTF-8"?>',
    `<testsuites ${attributes({ name: environment, ...counts(checks) })}>`,
    ...[...tables].flatMap(([table, of]) => [
      `  <testsuite ${attributes({ name: table, ...counts(of) })}>`,
      ...of.map((c) => {
        const named = `    <testcase ${attributes({ classname: table, name: c.title })}`;
        const found = findingOf(c);
        return found === undefined ? `${named}/>` : `${named}>${found}</testcase>`;
      }),
      '  </testsuite>',
    ]),
    '</testsuites>',
    '',
  ].join('\n');
}

const counts = (checks: readonly Sent<CheckState>[]) => ({
  tests: checks.length,
  failures: checks.filter((c) => c.verdict === 'broken').length,
  skipped: checks.filter((c) => c.verdict === 'not run').length,
});

function findingOf(check: Sent<CheckState>): string | undefined {
  const message = `${check.atFault ?? '0'} ${check.atFault === '1' ? 'row' : 'rows'} at fault${check.total === null ? '' : ` of ${check.total}`}`;
  switch (check.verdict) {
    case 'holds':
      return undefined;
    case 'not run':
      return '<skipped/>';
    case 'advisory':
      return `<system-out>${escaped(`advisory: ${message}`)}</system-out>`;
    case 'broken':
      return `<failure ${attributes({ type: 'broken', message })}/>`;
  }
}

const attributes = (of: Readonly<Record<string, string | number>>) =>
  Object.entries(of)
    .map(([name, value]) => `${name}="${escaped(String(value))}"`)
    .join(' ');

const ENTITIES: Readonly<Record<string, string>> = {
  '&': '&amp;',
  '<': '&lt;',
  '>': '&gt;',
  '"': '&quot;',
  "'": '&apos;',
};
/** Characters that XML 1.0 cannot hold at all are left out. */
const IMPOSSIBLE =
  /[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g;
const escaped = (text: string) => text.replace(IMPOSSIBLE, '').replace(/[&<>"']/g, (c) => ENTITIES[c]!);
