import { expect, test } from '@jest/globals';
import type { CheckState } from '@ouvrage/api/quality';
import { verdictsAsCsv, verdictsAsJunit } from './quality-files.js';

const check = (of: Partial<CheckState>): CheckState => ({
  id: 'core.a/x',
  kind: 'check',
  title: 'x > 1',
  table: 'core.a',
  columns: [],
  advisory: false,
  tolerate: null,
  comment: null,
  verdict: 'holds',
  atFault: '0',
  total: '10',
  at: '2026-01-01T00:00:00Z',
  run: 1,
  environment: 'production',
  ...of,
});

test('verdicts as JUnit: a suite a table, and nothing that XML cannot hold', () => {
  expect(
    verdictsAsJunit('production', [
      check({}),
      check({ title: `"a" < 'b' & \u0000c\ud800`, verdict: 'broken', atFault: '3' }),
      check({ table: 'core.b', title: 'y', verdict: 'advisory', atFault: '1', total: null }),
      check({ table: 'core.b', title: 'z', verdict: 'not run', atFault: null }),
    ]),
  ).toMatchInlineSnapshot(`
   "<?xml version="1.0" encoding="UTF-8"?>
   <testsuites name="production" tests="4" failures="1" skipped="1">
     <testsuite name="core.a" tests="2" failures="1" skipped="0">
       <testcase classname="core.a" name="x &gt; 1"/>
       <testcase classname="core.a" name="&quot;a&quot; &lt; &apos;b&apos; &amp; c"><failure type="broken" message="3 rows at fault of 10"/></testcase>
     </testsuite>
     <testsuite name="core.b" tests="2" failures="0" skipped="1">
       <testcase classname="core.b" name="y"><system-out>advisory: 1 row at fault</system-out></testcase>
       <testcase classname="core.b" name="z"><skipped/></testcase>
     </testsuite>
   </testsuites>
   "
  `);
});

test('verdicts as CSV, a line each', async () => {
  const at = '2026-01-01T00:00:00Z' as const;
  const point = { table: 'core.a', verdict: 'broken', atFault: '3', total: null, at, run: 7 } as const;
  const batches = async function* () {
    yield [{ ...point, id: 'core.a/x, y' }];
    yield [{ ...point, id: 'z' }];
  };
  let text = '';
  for await (const part of verdictsAsCsv(batches())) text += part;
  expect(text).toBe(
    'table,check,verdict,rows at fault,rows,at,run\r\ncore.a,"core.a/x, y",broken,3,,2026-01-01T00:00:00.000Z,7\r\ncore.a,z,broken,3,,2026-01-01T00:00:00.000Z,7\r\n',
  );
});
