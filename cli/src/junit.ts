/** One case of a suite. */
export interface JunitCase {
  readonly name: string;
  /** What is wrong; undefined where nothing is. */
  readonly failure?: { readonly message: string; readonly text: string };
  readonly isSkipped?: boolean;
}

const ENTITIES: Readonly<Record<string, string>> = { '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' };
/** Characters that XML 1.0 cannot hold at all are left out. */
const IMPOSSIBLE =
  /[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]|[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g;
const escaped = (text: string): string => text.replace(IMPOSSIBLE, '').replace(/[&<>"]/g, (c) => ENTITIES[c]!);

/** Suites of cases as JUnit XML. */
export function junit(name: string, suites: ReadonlyMap<string, readonly JunitCase[]>): string {
  const counts = (cases: readonly JunitCase[]) =>
    `tests="${cases.length}" failures="${cases.filter((c) => c.failure).length}" skipped="${cases.filter((c) => c.isSkipped).length}"`;
  const lines = [...suites].flatMap(([suite, cases]) => [
    `  <testsuite name="${escaped(suite)}" ${counts(cases)}>`,
    ...cases.map((c) => {
      const head = `    <testcase classname="${escaped(suite)}" name="${escaped(c.name)}"`;
      if (c.failure)
        return `${head}><failure message="${escaped(c.failure.message)}">${escaped(c.failure.text)}</failure></testcase>`;
      return c.isSkipped ? `${head}><skipped/></testcase>` : `${head}/>`;
    }),
    '  </testsuite>',
  ]);
  return [
    '<?xml version="1.0" encoding="UTF-8"?>',
    `<testsuites name="${escaped(name)}" ${counts([...suites.values()].flat())}>`,
    ...lines,
    '</testsuites>',
    '',
  ].join('\n');
}
