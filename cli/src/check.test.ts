import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '@ouvrage/core/sql';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { main } from './main.js';

let folder: string;
beforeAll(async () => {
  folder = mkdtempSync(path.join(os.tmpdir(), 'ouvrage-check-'));
  await loadParser();
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

let n = 0;
/** A folder with some files. */
function folderOf(files: Readonly<Record<string, string>>): string {
  const made = path.join(folder, String(++n));
  for (const [file, text] of Object.entries({ 'layers.sql': 'create schema core;\n', ...files })) {
    mkdirSync(path.dirname(path.join(made, file)), { recursive: true });
    writeFileSync(path.join(made, file), text);
  }
  return made;
}
async function ran(...args: readonly string[]) {
  const told = { out: '', err: '' };
  const code = await main(args, {
    out: (text) => (told.out += text),
    err: (text) => (told.err += text),
    env: {},
  });
  return { code, ...told };
}

const WELL = { 'core/a.sql': 'select 1 as n;\n', 'notes.txt': 'left alone', '.hidden/b.sql': 'select from' };
const BROKEN = { ...WELL, 'core/b.sql': 'select x.n,\n  x.m\nfrom core.a as x;\n', 'core/<c>.sql': 'select from' };

describe('a project in a folder', () => {
  test('that is well is counted, and nothing else', async () => {
    expect(await ran('check', folderOf(WELL))).toEqual({ code: 0, out: '2 files, 1 table: 0 errors\n', err: '' });
  });

  test('with errors tells each with its place, in the order of the files', async () => {
    const { code, out } = await ran('check', folderOf(BROKEN));
    const lines = out.split('\n');
    expect(code).toBe(1);
    expect(lines[0]).toMatch(/^core\/<c>\.sql:\d+:\d+: error: /);
    expect(lines).toContainEqual(expect.stringMatching(/^core\/b\.sql:2:\d+: error: .*\bm\b/));
    expect(lines.at(-2)).toMatch(/^4 files, \d tables?: [2-9] errors/);
  });

  test('is told as JSON', async () => {
    const { code, out } = await ran('check', folderOf(BROKEN), '--format', 'json');
    const { files, diagnostics } = JSON.parse(out) as { files: number; diagnostics: unknown[] };
    expect([code, files]).toEqual([1, 4]);
    expect(diagnostics).toContainEqual(
      expect.objectContaining({ path: 'core/b.sql', line: 2, severity: 'error', code: 'unknown-column' }),
    );
  });

  test('is told as JUnit XML, a suite a file', async () => {
    const { out } = await ran('check', folderOf(BROKEN), '--format=junit');
    expect(out).toMatch(
      /^<\?xml version="1\.0" encoding="UTF-8"\?>\n<testsuites name="check" tests="4" failures="2" skipped="0">/,
    );
    expect(out).toContain('<testsuite name="core/&lt;c&gt;.sql" tests="1" failures="1" skipped="0">');
    expect(out).toContain('<testcase classname="core/a.sql" name="resolves"/>');
  });
});

test.each<[string, readonly string[], RegExp]>([
  ['no folder', ['check'], /Say which folder/],
  ['two folders', ['check', 'a', 'b'], /b is one argument too many/],
  [
    'a folder without a project',
    ['check', path.join(os.tmpdir(), '..', 'proc', 'self', 'fdinfo')],
    /holds no project|There is no folder/,
  ],
  ['a file', ['check', import.meta.filename], /There is no folder/],
  ['a format that there is not', ['check', '.', '--format', 'xml'], /There is no format xml here/],
  ['a name of the language', ['constructor'], /There is no command constructor/],
])('%s is wrong use, and said', async (_, args, said) => {
  expect(await ran(...args)).toEqual({ code: 2, out: '', err: expect.stringMatching(said) });
});

test('help lists every command, and a command its options', async () => {
  const { code, out } = await ran('help');
  expect(code).toBe(0);
  for (const name of [
    'check DIR',
    'plan',
    'run',
    'test',
    'examples',
    'release WORKSPACE',
    'rollback RELEASE',
    'script',
    'status',
  ])
    expect(out).toContain(`ouvrage ${name} `);
  expect((await ran('run', '--help')).out).toMatch(/--changed-since COMMIT +of these, what has changed since a commit/);
});
