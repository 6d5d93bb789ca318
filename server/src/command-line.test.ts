import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { NewToken } from '@ouvrage/api/people';
import type { ReleaseEntry } from '@ouvrage/api/release';
import { execFile } from 'node:child_process';
import { chmodSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { emptyData } from './testing-clusters.js';
import { draft, startApplication, workspace, type Client, type TestApplication } from './testing.js';

const PROGRAM = fileURLToPath(new URL('../../bin/ouvrage.mjs', import.meta.url));
const PIPELINE = readFileSync(new URL('../../docs/pipeline.md', import.meta.url), 'utf8');
const SAMPLE = /^```sh\n(.*?)^```$/ms.exec(PIPELINE)![1]!;

const data = process.env['OUVRAGE_DATA'];
let end: () => Promise<void>;
let application: TestApplication;
let [admin, mira] = [] as unknown as [Client, Client];
let [server, token, folder] = ['', '', ''];
beforeAll(async () => {
  const made = await emptyData(5744);
  end = made.end;
  process.env['OUVRAGE_DATA'] = made.data;
  application = await startApplication();
  [admin, mira] = (await Promise.all(['admin', 'mira'].map((n) => application.signIn(n)))) as [Client, Client];
  const { port } = application.app.getHttpServer().address() as { port: number };
  server = `http://127.0.0.1:${port}`;
  token = await tokenWith('read', 'write', 'run', 'release', 'consent');
  folder = mkdtempSync(path.join(os.tmpdir(), 'ouvrage-pipeline-'));
  writeFileSync(path.join(folder, 'ouvrage'), `#!/bin/sh\nexec "${process.execPath}" "${PROGRAM}" "$@"\n`);
  chmodSync(path.join(folder, 'ouvrage'), 0o755);
}, 180_000);
afterAll(async () => {
  rmSync(folder, { recursive: true, force: true });
  await application.close();
  await end();
  process.env['OUVRAGE_DATA'] = data;
});

const tokenWith = async (...rights: string[]): Promise<string> =>
  ((await mira.send('post', '/api/tokens', { label: rights.join(), rights })).body as NewToken).token;

interface Ran {
  readonly code: number;
  readonly out: string;
  readonly err: string;
}
/** Runs a program to its end. */
const ran = (program: string, args: readonly string[], more: Readonly<Record<string, string>> = {}, cwd = folder) =>
  new Promise<Ran>((resolve) => {
    const env = {
      PATH: `${folder}:${process.env['PATH']!}`,
      HOME: folder,
      GIT_TERMINAL_PROMPT: '0',
      GIT_AUTHOR_NAME: 'M',
      GIT_AUTHOR_EMAIL: 'm@x.invalid',
      GIT_COMMITTER_NAME: 'M',
      GIT_COMMITTER_EMAIL: 'm@x.invalid',
      OUVRAGE_SERVER: server,
      OUVRAGE_TOKEN: token,
      ...more,
    };
    execFile(program, [...args], { env, cwd }, (error, out, err) =>
      resolve({ code: typeof error?.code === 'number' ? error.code : error ? 99 : 0, out, err }),
    );
  });
const ouvrage = (args: string, more: Readonly<Record<string, string>> = {}) =>
  ran(process.execPath, [PROGRAM, ...(args.match(/"[^"]*"|\S+/g) ?? []).map((a) => a.replaceAll('"', ''))], more);

/** A workspace with a change that is committed. */
async function changed(name: string, file: string, text: string | null): Promise<string> {
  const slug = await workspace(mira, name);
  expect(await draft(mira, slug, file, () => text)).toBe(200);
  expect((await mira.send('post', `/api/workspaces/${slug}/commits`, { message: name })).status).toBe(201);
  return slug;
}

describe('the sample of the documentation', () => {
  const git = (...args: string[]) => ran('git', args, {}, path.join(folder, 'clone'));

  test('checks, pushes, loads, tests and releases a branch; ends early where something is wrong', async () => {
    const clone = await ran('git', [
      'clone',
      '--quiet',
      `http://mira:${token}@${server.slice(7)}/git/project.git`,
      'clone',
    ]);
    expect(clone).toMatchObject({ code: 0 });
    const file = path.join(folder, 'clone/mart/vessel_dues.sql');
    const before = readFileSync(file, 'utf8');
    const pipeline = () => ran('sh', ['-c', SAMPLE], { WORKSPACE: 'by-pipeline' }, path.join(folder, 'clone'));

    writeFileSync(file, before.replace('select', 'select from'));
    await git('commit', '--quiet', '-am', 'Broken');
    const broken = await pipeline();
    expect([broken.code, broken.out]).toEqual([1, expect.stringMatching(/^mart\/vessel_dues\.sql:\d+:\d+: error: /)]);
    expect((await mira.get('/api/workspaces/by-pipeline/files')).status).toBe(404);

    writeFileSync(
      path.join(folder, 'clone/mart/by_pipeline.sql'),
      'create table mart.by_pipeline (calls bigint check (calls > 0)) with (load = rebuild);\nselect count(*) as calls from core.fact_call;\n',
    );
    writeFileSync(file, before);
    await git('add', '.');
    await git('commit', '--quiet', '-m', 'Calls by a pipeline');
    const well = await pipeline();
    expect([well.err, well.code]).toEqual(['', 0]);
    expect(well.out).toMatch(/ mart\.by_pipeline: done, 1 row\n/);
    expect(well.out).toMatch(/Run \d+: release in production, queued\n(.*\n)*Run \d+: succeeded/);
    expect(readFileSync(path.join(folder, 'clone/checks.xml'), 'utf8')).toMatch(
      /<testsuites name="run \d+" tests="\d+" failures="0"/,
    );
    const [newest] = (await mira.get('/api/releases')).body as ReleaseEntry[];
    expect(newest).toMatchObject({ workspace: 'by-pipeline', person: 'Mira Okafor', tables: ['mart.by_pipeline'] });
  });
});

describe('it ends with', () => {
  test.each<[number, string, string, RegExp]>([
    [0, 'status', 'status', /^production\nrelease: /],
    [0, 'the plan of what reads a table', 'plan --table core.dim_berth --with-readers', /core\.fact_call\n/],
    [0, 'nothing to do', `run --layer mart --changed-since HEAD_OF_MAIN`, /^Nothing is chosen/],
    [
      0,
      'a test of what has no checks',
      'test --table mart.cargo_by_goods --format junit',
      /<testsuites name="nothing" tests="0"/,
    ],
    [0, 'a test of all', 'test --wait', /Run \d+: succeeded, \d\d+ checks, 0 broken/],
    [
      0,
      'worked examples',
      'examples --layer core',
      /core\.dim_vessel, a new flag: holds\n(.*\n)*\d+ examples, 0 not as expected\n$/,
    ],
    [0, 'a script', 'script --table core.dim_berth', /^-- core\.dim_berth of production/],
    [2, 'no command', '', /^ouvrage check DIR/],
    [2, 'an unknown command', 'chek', /There is no command chek\nDid you mean check\?/],
    [2, 'an unknown option', 'run --tabel x', /There is no option --tabel here\nDid you mean --table\?/],
    [2, 'a value that is missing', 'run --table', /argument missing/],
    [
      2,
      'an unknown table',
      'run --table core.dim_bert',
      /There is no table core\.dim_bert\nDid you mean core\.dim_berth\?/,
    ],
    [2, 'an unknown commit', 'plan --changed-since 0123456', /The commit 0123456 does not exist/],
    [2, 'an unknown workspace', 'status --workspace nowhere', /nowhere/],
    [2, 'an unknown target', 'run --target acceptance', /There is no target acceptance/],
    [2, 'a format that there is not', 'plan --format junit', /There is no format junit here/],
    [2, 'a parameter without a value', 'run --param x', /--param x is not NAME=VALUE/],
    [2, 'a folder that is none', 'check /no/such/folder', /There is no folder/],
    [2, 'no release', 'rollback 99999', /The release 99999 does not exist/],
    [2, 'words for a release', 'rollback first', /first is not the number of a release/],
    [4, 'a release that has nothing', 'release NOTHING --message x', /Production already has all of this/],
  ])('%i: %s', async (code, _, args, said) => {
    const head = (await mira.get('/api/workspaces/production/files')).body as { commit: string };
    if (args.includes('NOTHING')) await mira.send('post', '/api/workspaces', { name: 'Nothing' });
    const found = await ouvrage(args.replace('HEAD_OF_MAIN', head.commit).replace('NOTHING', 'nothing'));
    expect([found.code, found.out + found.err]).toEqual([code, expect.stringMatching(said)]);
  });

  test.each<[number, string, Record<string, string>, RegExp]>([
    [2, 'no server', { OUVRAGE_SERVER: '' }, /Which server\?/],
    [2, 'an address that is none', { OUVRAGE_SERVER: 'ftp://x' }, /is not the address of a server/],
    [2, 'no token', { OUVRAGE_TOKEN: '' }, /There is no token/],
    [3, 'a server that is not there', { OUVRAGE_SERVER: 'http://127.0.0.1:9' }, /127\.0\.0\.1:9 was not reached/],
    [4, 'a token that is unknown', { OUVRAGE_TOKEN: 'nobody' }, /The access token is unknown or has ended/],
  ])('%i: %s', async (code, _, env, said) => {
    const found = await ouvrage('status', env);
    expect([found.code, found.out, found.err]).toEqual([code, '', expect.stringMatching(said)]);
  });

  test('4 where the token lacks a right, a release needs a consent, or an approval is missing', async () => {
    const reading = await tokenWith('read', 'write', 'release');
    const lacking = await ouvrage('run --table core.dim_berth', { OUVRAGE_TOKEN: reading });
    expect([lacking.code, lacking.err]).toEqual([4, expect.stringContaining('lacks the right run')]);

    const slug = await changed('Drops', 'mart/berth_occupancy.sql', null);
    expect(await ouvrage(`release ${slug} --message x`)).toMatchObject({
      code: 4,
      err: expect.stringContaining('drops mart.berth_occupancy'),
    });
    const consent = `release ${slug} --message x --consent mart.berth_occupancy`;
    expect(await ouvrage(consent, { OUVRAGE_TOKEN: reading })).toMatchObject({
      code: 4,
      err: expect.stringContaining('lacks the right consent'),
    });
    expect(await ouvrage(`${consent} --wait`)).toMatchObject({ code: 0 });
    const [release] = (await mira.get('/api/releases')).body as ReleaseEntry[];

    const back = await ouvrage(`rollback ${release!.id} --restore --wait --format json`);
    expect([back.err, back.code]).toEqual(['', 0]);
    const lines = back.out
      .trim()
      .split('\n')
      .map((l) => JSON.parse(l) as Record<string, unknown>);
    expect(lines.at(-1)).toMatchObject({ state: 'succeeded', broken: 0 });
    expect(lines).toContainEqual(expect.objectContaining({ table: 'mart.berth_occupancy', state: 'done' }));

    const rules = await changed('Rules', 'review.sql', "set review.approvals = '1';\n");
    expect(await ouvrage(`release ${rules} --message x`)).toMatchObject({
      code: 4,
      err: expect.stringContaining('approval'),
    });
  });

  test('1 where a check is broken, which the report names', async () => {
    const slug = await changed(
      'Breaks',
      'mart/broken.sql',
      'create table mart.broken (n integer check (n > 1)) with (load = rebuild);\nselect 1 as n;\n',
    );
    const text = await ouvrage(`run --workspace ${slug} --table mart.broken --wait`);
    expect([text.code, text.out]).toEqual([
      1,
      expect.stringMatching(/mart\.broken: failed.*broken: mart\.broken\/broken_n_check/),
    ]);
    const junit = await ouvrage(`run --workspace ${slug} --table mart.broken --wait --format junit`);
    expect([junit.code, junit.out]).toEqual([
      1,
      expect.stringMatching(/name="mart\.broken\/broken_n_check"><failure message="1 of 1 rows at fault">/),
    ]);
    expect((await ouvrage(`status --workspace ${slug}`)).code).toBe(1);
  });

  test('0 as soon as a run is queued, where nobody waits', async () => {
    const found = await ouvrage('run --table core.dim_berth');
    expect([found.code, found.out]).toEqual([0, expect.stringMatching(/^Run \d+: build in production, queued\n$/)]);
    expect((await admin.ended(Number(/\d+/.exec(found.out)![0]))).state).toBe('succeeded');
  });
});
