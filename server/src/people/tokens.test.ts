import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { AccessToken, NewToken } from '@ouvrage/api/people';
import { execFile } from 'node:child_process';
import { promisify } from 'node:util';
import { DataSource } from 'typeorm';
import { routesOf, type Route } from '../routes.js';
import { startApplication, workspace, type Client, type TestApplication } from '../testing.js';
import { TOKEN_RIGHTS, type TokenRight } from './access.js';

let application: TestApplication;
let [admin, jonas] = [] as unknown as [Client, Client];
let address: string;
beforeAll(async () => {
  application = await startApplication();
  [admin, jonas] = (await Promise.all(['admin', 'jonas'].map((n) => application.signIn(n)))) as [Client, Client];
  const { port } = application.app.getHttpServer().address() as { port: number };
  address = `http://127.0.0.1:${port}`;
});
afterAll(() => application.close());

const made = async (client: Client, rights: readonly TokenRight[], days = 1): Promise<NewToken> =>
  (await client.send('post', '/api/tokens', { label: rights.join(' '), rights, days })).body as NewToken;

/** A request with a token and nothing else. */
async function ask(token: string, method: string, path: string, body?: unknown) {
  const answer = await fetch(`${address}${path}`, {
    method,
    headers: {
      authorization: `Bearer ${token}`,
      ...(body === undefined ? {} : { 'content-type': 'application/json' }),
    },
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
  });
  const text = await answer.text();
  const isJson = /json/.test(answer.headers.get('content-type') ?? '');
  return { status: answer.status, body: (isJson && text ? JSON.parse(text) : text) as { code?: string } };
}

const keyOf = ({ method, path }: Route) => `${method} ${path}`;
/** What no token opens: approvals and remarks, people and tokens, settings and messages, connections, the deletion of workspaces, streams. */
const CHANGES: Readonly<Record<string, TokenRight>> = {
  'POST /api/workspaces': 'write',
  'PUT /api/workspaces/:slug/drafts': 'write',
  'DELETE /api/workspaces/:slug/drafts': 'write',
  'POST /api/workspaces/:slug/drafts/rebase': 'write',
  'POST /api/workspaces/:slug/commits': 'write',
  'POST /api/workspaces/:slug/take-production': 'write',
  'POST /api/releases/:id/way-back': 'write',
  'POST /api/workspaces/:slug/runs': 'run',
  'POST /api/workspaces/:slug/checks': 'run',
  'POST /api/workspaces/:slug/intake': 'run',
  'POST /api/workspaces/:slug/examples/runs': 'run',
  'POST /api/runs/:id/stop': 'run',
  'POST /api/jobs/:name/start': 'run',
  'POST /api/runs/:id/continue': 'run',
  'POST /api/workspaces/:slug/release': 'release',
};
const CLOSED =
  /\/(tokens|people|sessions|session-limits|audit|messages|reading|receivers|sendings?|outbox|connections|kept-copies|sharing|events)\b/;

test('a token opens what it has the right for, and nothing that is a person’s own', async () => {
  const slug = await workspace(admin, 'Token routes');
  const tokens = new Map<TokenRight | 'all', string>();
  for (const right of TOKEN_RIGHTS) tokens.set(right, (await made(admin, [right])).token);
  tokens.set('all', (await made(admin, TOKEN_RIGHTS)).token);
  for (const route of routesOf(application.app).filter((r) => !r.isPublic && !r.path.startsWith('/git/'))) {
    const wanted = route.method === 'GET' ? (CLOSED.test(route.path) ? undefined : 'read') : CHANGES[keyOf(route)];
    expect([keyOf(route), route.right]).toEqual([keyOf(route), wanted]);
    const path = route.path.replace(':slug', slug).replaceAll(/:\w+/g, '999999');
    for (const [has, token] of tokens) {
      const { status, body } = await ask(token, route.method, path, route.method === 'GET' ? undefined : {});
      const refused = status === 403 ? body.code : undefined;
      const expected =
        wanted === undefined ? 'not-for-tokens' : has === 'all' || has === wanted ? undefined : 'token-right';
      expect([keyOf(route), has, refused, status < 500]).toEqual([keyOf(route), has, expected, true]);
    }
  }
});

test('it may no more than its owner at that moment', async () => {
  const { token } = await made(jonas, TOKEN_RIGHTS);
  const release = () => ask(token, 'POST', '/api/workspaces/none/release', { message: 'x' });
  expect((await release()).body.code).toBe('not-allowed');
  const roles = application.app.get(DataSource);
  const become = (role: string) => roles.query(`update person set role = $1 where name = 'jonas'`, [role]);
  try {
    await become('releaser');
    expect((await release()).body.code).toBe('not-found');
    await become('viewer');
    const { body } = await ask(token, 'POST', '/api/workspaces', { name: 'By token' });
    expect(body.code).toBe('not-allowed');
  } finally {
    await become('editor');
  }
});

test('it neither overrides a review nor drops anything without the right to', async () => {
  const [{ token }, { token: consenting }] = [
    await made(admin, ['release']),
    await made(admin, ['release', 'consent']),
  ];
  const slug = await workspace(admin, 'Token release');
  const release = (by: string, more: object) =>
    ask(by, 'POST', `/api/workspaces/${slug}/release`, { message: 'x', ...more });
  expect((await release(consenting, { override: 'Me.' })).body.code).toBe('not-for-tokens');
  expect((await release(token, { consents: ['core.dim_port'] })).body.code).toBe('token-right');
  expect((await release(consenting, { consents: ['core.dim_port'] })).body.code).toBe('nothing-to-release');
  expect((await release(token, {})).body.code).toBe('nothing-to-release');
});

test.each<[string, () => Promise<string>]>([
  ['that is unknown', async () => 'nobody-knows-it'],
  [
    'that was deleted',
    async () => {
      const { id, token } = await made(jonas, ['read']);
      await jonas.send('delete', `/api/tokens/${id}`);
      return token;
    },
  ],
  [
    'that has ended',
    async () => {
      const { id, token } = await made(jonas, ['read']);
      await application.app
        .get(DataSource)
        .query(`update access_token set expires_at = now() - interval '1 second' where id = $1`, [id]);
      return token;
    },
  ],
])('one %s opens nothing', async (_, token) => {
  expect(await ask(await token(), 'GET', '/api/workspaces')).toMatchObject({ status: 401, body: { code: 'token' } });
});

test('git asks for the rights, too; each token says what it may, until when, and when it was used', async () => {
  const git = (token: string, ...args: string[]) =>
    promisify(execFile)('git', [...args, `http://jonas:${token}@${address.slice(7)}/git/project.git`], {
      env: { ...process.env, GIT_TERMINAL_PROMPT: '0', GIT_CONFIG_GLOBAL: '/dev/null' },
    });
  const reads = await made(jonas, ['read'], 30);
  await git(reads.token, 'ls-remote');
  await expect(git((await made(jonas, ['run'])).token, 'ls-remote')).rejects.toThrow(/403/);
  const pushes = await fetch(`${address}/git/project.git/info/refs?service=git-receive-pack`, {
    headers: { authorization: `Basic ${Buffer.from(`jonas:${reads.token}`).toString('base64')}` },
  });
  expect([pushes.status, await pushes.text()]).toEqual([403, 'The access token lacks the right write.\n']);
  const list = (await jonas.get('/api/tokens')).body as AccessToken[];
  const found = list.find((t) => t.id === reads.id)!;
  expect(found).toMatchObject({ rights: ['read'], lastUsedAt: expect.any(String) });
  expect(Math.round((Date.parse(found.expiresAt) - Date.parse(found.createdAt)) / 86_400_000)).toBe(30);
  const usual = (await jonas.send('post', '/api/tokens', { label: 'usual' })).body as NewToken;
  const after = ((await jonas.get('/api/tokens')).body as AccessToken[]).find((t) => t.id === usual.id)!;
  expect(after.rights).toEqual(['read', 'write']);
  expect(Math.round((Date.parse(after.expiresAt) - Date.parse(after.createdAt)) / 86_400_000)).toBe(90);
  expect((await jonas.send('post', '/api/tokens', { label: 'x', rights: ['admin'] })).status).toBe(400);
});
