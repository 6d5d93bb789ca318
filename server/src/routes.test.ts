import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { readdir, readFile } from 'node:fs/promises';
import request from 'supertest';
import { mayAct } from './people/access.js';
import { PERSON_ROLES, type PersonRole } from './people/people.entities.js';
import { routesOf, type Route } from './routes.js';
import { descriptionOf, operationOf, type Api } from './testing-description.js';
import { startApplication, workspace, type Client, type TestApplication } from './testing.js';

let application: TestApplication;
let api: Api;
let asDescribed: ReturnType<typeof descriptionOf>;
const people = {} as Record<PersonRole, Client>;
beforeAll(async () => {
  application = await startApplication();
  for (const [role, name] of [
    ['viewer', 'vera'],
    ['editor', 'jonas'],
    ['releaser', 'mira'],
    ['administrator', 'admin'],
  ] as const)
    people[role] = await application.signIn(name);
  await workspace(people.editor, 'Routes');
  await workspace(people.releaser, 'Kept');
  api = (await people.administrator.get('/api/docs-json')).body as Api;
  asDescribed = descriptionOf(api);
});
afterAll(() => application.close());

/**
 * What each route needs, said once more and apart from the routes: a new one has to be entered here. `public` needs no
 * session. `reader` and so on is the least role; with a second role after a bar, that is needed in production.
 */
const NEEDED: Readonly<Record<string, string>> = {
  'DELETE /api/connections/:id': 'administrator',
  'DELETE /api/tokens/:id': 'viewer',
  'DELETE /api/workspaces/:slug/drafts': 'editor|never',
  'GET /api/audit': 'administrator',
  'GET /api/audit/export': 'administrator',
  'GET /api/connections': 'viewer',
  'GET /api/deliveries': 'viewer',
  'GET /api/deliveries/:id/rejects': 'viewer',
  'GET /api/deliveries/:id/rejects.csv': 'viewer',
  'POST /api/deliveries/:id/retry': 'releaser',
  'GET /api/events': 'viewer',
  'GET /api/harbour': 'viewer',
  'GET /api/health': 'public',
  'GET /api/incidents': 'viewer',
  'GET /api/incidents/:id': 'viewer',
  'GET /api/releases': 'viewer',
  'GET /api/releases/:id': 'viewer',
  'GET /api/releases/:id/file': 'viewer',
  'POST /api/releases/:id/way-back': 'editor',
  'GET /api/releases/:id/restore': 'viewer',
  'GET /api/kept-copies': 'viewer',
  'PUT /api/kept-copies': 'administrator',
  'GET /api/runs': 'viewer',
  'GET /api/runs/:id': 'viewer',
  'GET /api/runs/:id/events': 'viewer',
  'GET /api/runs/:id/steps/:step': 'viewer',
  'GET /api/session': 'public',
  'GET /api/tokens': 'viewer',
  'GET /api/workspaces/:slug/examples': 'viewer',
  'GET /api/workspaces/:slug/examples/changed': 'viewer',
  'GET /api/workspaces/:slug/agreements': 'viewer',
  'POST /api/workspaces/:slug/agreements': 'viewer',
  'POST /api/workspaces/:slug/agreements/withdraw': 'viewer',
  'GET /api/messages': 'viewer',
  'POST /api/messages/read': 'viewer',
  'GET /api/reading': 'viewer',
  'PUT /api/reading': 'viewer',
  'GET /api/receivers': 'viewer',
  'POST /api/desks': 'administrator',
  'PUT /api/desks/:id': 'administrator',
  'DELETE /api/desks/:id': 'administrator',
  'PUT /api/people/:name/mail': 'administrator',
  'GET /api/sending': 'administrator',
  'PUT /api/sending': 'administrator',
  'GET /api/sendings': 'administrator',
  'POST /api/sendings/:id/again': 'administrator',
  'GET /api/outbox': 'editor',
  'GET /api/watches': 'viewer',
  'GET /api/watches/series': 'viewer',
  'POST /api/watches/lessons': 'editor',
  'GET /api/workspaces': 'viewer',
  'GET /api/workspaces/:slug/catalog/:connection': 'editor',
  'GET /api/workspaces/:slug/check-history': 'viewer',
  'GET /api/workspaces/:slug/commits': 'viewer',
  'GET /api/workspaces/:slug/comparison': 'viewer|never',
  'GET /api/workspaces/:slug/comparison/file': 'viewer',
  'GET /api/workspaces/:slug/export': 'viewer',
  'GET /api/workspaces/:slug/file': 'viewer',
  'GET /api/workspaces/:slug/files': 'viewer',
  'GET /api/workspaces/:slug/history': 'viewer',
  'GET /api/workspaces/:slug/loads': 'viewer',
  'GET /api/workspaces/:slug/quality/day': 'viewer',
  'GET /api/workspaces/:slug/quality/days': 'viewer',
  'GET /api/workspaces/:slug/quality/export': 'viewer',
  'GET /api/workspaces/:slug/compared/columns': 'viewer',
  'GET /api/workspaces/:slug/compared/counts': 'viewer',
  'GET /api/workspaces/:slug/compared/export': 'viewer',
  'GET /api/workspaces/:slug/compared/rows': 'viewer',
  'GET /api/workspaces/:slug/quality/series': 'viewer',
  'POST /api/workspaces/:slug/deletion': 'editor|never',
  'GET /api/workspaces/:slug/review': 'viewer|never',
  'POST /api/workspaces/:slug/review/verdicts': 'editor|never',
  'DELETE /api/workspaces/:slug/review/verdicts': 'editor|never',
  'POST /api/workspaces/:slug/review/requests': 'editor|never',
  'POST /api/workspaces/:slug/review/remarks': 'editor|never',
  'POST /api/workspaces/:slug/review/remarks/:id/answers': 'editor|never',
  'POST /api/workspaces/:slug/review/remarks/:id/resolution': 'editor|never',
  'GET /api/workspaces/:slug/script': 'viewer',
  'GET /api/workspaces/:slug/sharing': 'viewer|never',
  'PUT /api/workspaces/:slug/sharing': 'editor|never',
  'GET /api/workspaces/:slug/sources': 'viewer',
  'GET /api/workspaces/:slug/state': 'viewer',
  'GET /api/workspaces/:slug/today': 'viewer',
  'POST /api/connections': 'administrator',
  'POST /api/connections/test': 'administrator',
  'POST /api/deliveries/file': 'releaser',
  'POST /api/deliveries/look': 'releaser',
  'POST /api/harbour/advance': 'editor',
  'PUT /api/harbour/clock': 'editor',
  'POST /api/runs/:id/continue': 'editor',
  'POST /api/runs/:id/stop': 'editor',
  'GET /api/jobs': 'viewer',
  'POST /api/jobs/:name/start': 'releaser',
  'PUT /api/jobs/:name/pause': 'releaser',
  'POST /api/sign-in': 'public',
  'GET /api/people': 'administrator',
  'POST /api/people': 'administrator',
  'PUT /api/people/:name': 'administrator',
  'POST /api/people/:name/reset': 'administrator',
  'POST /api/setup': 'public',
  'POST /api/links/look': 'public',
  'POST /api/links/use': 'public',
  'PUT /api/me/password': 'viewer',
  'GET /api/me/sessions': 'viewer',
  'DELETE /api/me/sessions/:number': 'viewer',
  'GET /api/session-limits': 'viewer',
  'PUT /api/session-limits': 'administrator',
  'POST /api/sign-out': 'viewer',
  'POST /api/tokens': 'viewer',
  'POST /api/workspaces/:slug/examples/runs': 'editor',
  'POST /api/workspaces/:slug/examples/begin': 'editor',
  'POST /api/incidents': 'editor',
  'POST /api/incidents/:id/changes': 'editor',
  'POST /api/incidents/:id/close': 'editor',
  'POST /api/incidents/:id/merge': 'editor',
  'POST /api/incidents/:id/remarks': 'editor',
  'POST /api/incidents/:id/reopen': 'editor',
  'POST /api/incidents/:id/split': 'editor',
  'POST /api/incidents/:id/take': 'editor',
  'POST /api/workspaces': 'editor',
  'POST /api/workspaces/:slug/anatomy': 'viewer',
  'POST /api/workspaces/:slug/anatomy/rows': 'viewer',
  'POST /api/workspaces/:slug/commits': 'editor|never',
  'POST /api/workspaces/:slug/describe': 'viewer',
  'POST /api/workspaces/:slug/casts': 'viewer',
  'POST /api/workspaces/:slug/checks': 'editor',
  'POST /api/workspaces/:slug/drafts/rebase': 'editor|never',
  'POST /api/workspaces/:slug/import': 'editor',
  'POST /api/workspaces/:slug/import/bind': 'administrator',
  'POST /api/workspaces/:slug/intake': 'editor|releaser',
  'POST /api/workspaces/:slug/page': 'viewer',
  'GET /api/workspaces/:slug/preview/exports/:id': 'viewer',
  'POST /api/workspaces/:slug/plan': 'viewer',
  'POST /api/workspaces/:slug/preview': 'viewer',
  'POST /api/workspaces/:slug/preview/exports': 'viewer',
  'POST /api/workspaces/:slug/profile': 'viewer',
  'POST /api/workspaces/:slug/release': 'releaser|never',
  'POST /api/workspaces/:slug/runs': 'editor|releaser',
  'POST /api/workspaces/:slug/sources/:server/compare': 'editor',
  'POST /api/workspaces/:slug/sources/:server/take-over': 'editor',
  'POST /api/workspaces/:slug/take-production': 'editor|never',
  'POST /api/workspaces/:slug/validate': 'viewer',
  'PUT /api/connections/:id': 'administrator',
  'PUT /api/connections/binding': 'administrator',
  'PUT /api/workspaces/:slug/drafts': 'editor|never',
  // Git's own program, with a token instead of a session.
  'ALL /git/project.git/*rest': 'public',
};

/** What is for those alone with whom the workspace is shared, its owner and administrators. */
const FOR_SHARED: readonly string[] = [
  'DELETE /api/workspaces/:slug/drafts',
  'POST /api/workspaces/:slug/commits',
  'POST /api/workspaces/:slug/drafts/rebase',
  'POST /api/workspaces/:slug/intake',
  'POST /api/workspaces/:slug/review/requests',
  'POST /api/workspaces/:slug/runs',
  'POST /api/workspaces/:slug/take-production',
  'PUT /api/workspaces/:slug/drafts',
];

const keyOf = ({ method, path }: Route) => `${method} ${path}`;
const server = () => application.app.getHttpServer() as Parameters<typeof request>[0];
const NOBODY = '0b8a3c5e-0000-4000-8000-000000000000';

/** An address of a route, with ids that nothing has. */
const addressOf = (path: string, slug: string) =>
  path
    .replace(':slug', slug)
    .replace(/:(id|connection)/, /runs|releases|remarks/.test(path) ? '999999' : NOBODY)
    .replace(':step', '999999')
    .replace(':server', 'port_ops')
    .replace(':number', NOBODY)
    .replace(':name', 'nobody');

/** A body that passes the validation of as many routes as possible. */
const BODY = {
  name: 'x',
  path: 'staging/port.sql',
  text: 'select 1 as n',
  version: 0,
  message: 'x',
  tables: [],
  upstream: false,
  downstream: false,
  limit: 1,
  label: 'x',
  format: 'csv',
  analyze: false,
  step: 'result',
  look: 'rows',
};

/** Asks a route; whoever asks for whatever, the answer is one that the API describes. */
async function ask(client: Client | undefined, route: Route, slug: string) {
  const method = (route.method === 'ALL' ? 'get' : route.method.toLowerCase()) as 'get' | 'post' | 'put' | 'delete';
  const asked = request(server())[method](addressOf(route.path, slug)).timeout(20_000);
  if (client) void asked.set('cookie', client.cookie).set('x-csrf-token', client.csrf);
  const answer = await (method === 'get' ? asked : asked.send(BODY));
  expect([keyOf(route), asDescribed(route, answer)]).toEqual([keyOf(route), 'as described']);
  return answer;
}

/** Streams are not awaited to their end; what ends the session or does something of weight is asked by role only. */
const isStream = ({ path }: Route) => path.endsWith('/events');
const apart = (route: Route) =>
  isStream(route) ||
  ['POST /api/sign-out', 'POST /api/harbour/advance', 'POST /api/deliveries/look'].includes(keyOf(route));

test('every route says here what it needs', () => {
  const routes = routesOf(application.app);
  expect(routes.map(keyOf).sort()).toEqual(Object.keys(NEEDED).sort());
  for (const route of routes) {
    const [needed] = NEEDED[keyOf(route)]!.split('|');
    expect([keyOf(route), route.isPublic ? 'public' : (route.needs ?? 'viewer')]).toEqual([keyOf(route), needed]);
  }
});

test('bodies of one name are one class: the description knows them by their names', async () => {
  const folder = new URL('.', import.meta.url);
  const files = (await readdir(folder, { recursive: true })).filter(
    (f) => f.endsWith('.ts') && !f.endsWith('.test.ts'),
  );
  const texts = await Promise.all(files.map((f) => readFile(new URL(f, folder), 'utf8')));
  const names = texts.flatMap((text) => [...text.matchAll(/^(?:export )?class (\w+Body)\b/gm)].map((m) => m[1]!));
  expect(names.length).toBeGreaterThan(20);
  expect(names.filter((name, i) => names.indexOf(name) !== i)).toEqual([]);
});

/** Git's own protocol is not described: its program knows it. */
const isDescribed = (route: Route) => !route.path.startsWith('/git/');

test.each(['answers', 'errors', 'headers', 'a sentence'] as const)(
  'the API describes the %s of every route',
  (what) => {
    for (const route of routesOf(application.app).filter(isDescribed)) {
      const operation = operationOf(api, route)!;
      const responses = Object.entries(operation.responses);
      const good = responses.filter(([status]) => status < '300');
      const found = {
        answers: good.length === 1 && (good[0]![0] === '204' || Object.keys(good[0]![1].content ?? {}).length > 0),
        errors: ['400', '500', '503', ...(route.isPublic ? [] : ['401'])].every(
          (s) => operation.responses[s]?.content?.['application/problem+json'],
        ),
        headers: responses.every(([, { headers }]) => headers?.['Cache-Control']),
        'a sentence': (operation.summary ?? '').length > 5,
      };
      expect([keyOf(route), found[what]]).toEqual([keyOf(route), true]);
    }
  },
);

test.each<[string, object, string]>([
  ['what is described', { state: 'ready' }, 'as described'],
  ['a member that is not described', { state: 'ready', secret: 1 }, 'data must NOT have additional properties'],
  ['a member that is missing', {}, "data must have required property 'state'"],
  ['a member of another type', { state: 1 }, 'data/state must be string'],
])('an answer is held against its description: %s', (_, body, found) => {
  const route = routesOf(application.app).find((r) => r.path === '/api/health')!;
  const answer = {
    status: 200,
    type: 'application/json',
    text: JSON.stringify(body),
    headers: { 'cache-control': 'no-store' },
  };
  expect(asDescribed(route, answer)).toBe(found);
});

test('without a session every route but the public ones is closed, whatever is asked', async () => {
  for (const route of routesOf(application.app).filter((r) => !r.isPublic)) {
    const { status, type } = await ask(undefined, route, 'routes');
    expect([keyOf(route), status, type]).toEqual([keyOf(route), 401, 'application/problem+json']);
    const wrong = await ask({ ...people.administrator, cookie: 'ouvrage_session=wrong' }, route, 'routes');
    expect([keyOf(route), wrong.status]).toEqual([keyOf(route), 401]);
  }
});

test('what changes something needs the session’s own token', async () => {
  for (const route of routesOf(application.app).filter((r) => !r.isPublic && r.method !== 'GET')) {
    const { status, body } = await ask({ ...people.administrator, csrf: 'wrong' }, route, 'routes');
    expect([keyOf(route), status, (body as { code: string }).code]).toEqual([keyOf(route), 403, 'csrf']);
  }
});

test.each(PERSON_ROLES)('a %s gets into what the role allows, and nowhere else', async (role) => {
  for (const route of routesOf(application.app).filter((r) => !r.isPublic && !apart(r))) {
    const needed = NEEDED[keyOf(route)]!.split('|')[0] as PersonRole;
    const { status, body } = await ask(people[role], route, 'routes');
    const isRefused = status === 403 && (body as { code: string }).code === 'not-allowed';
    expect([keyOf(route), role, isRefused, status >= 500 ? status : 'below 500']).toEqual([
      keyOf(route),
      role,
      !mayAct(role, needed),
      'below 500',
    ]);
  }
});

test.each<[string, string]>([
  ['an unknown workspace', 'no-such-workspace'],
  ['main', 'main'],
  ['a name that is none', '..%2F..%2Fetc'],
])('%s is not there for any route', async (_, slug) => {
  for (const route of routesOf(application.app).filter((r) => r.path.includes(':slug') && !isStream(r))) {
    const { status } = await ask(people.administrator, route, slug);
    // A request may be refused before its workspace is looked for; it is never taken.
    expect([keyOf(route), [400, 404, 409].includes(status) ? 'refused' : status]).toEqual([keyOf(route), 'refused']);
  }
});

test.each<[string, PersonRole, readonly string[] | 'all', boolean]>([
  ['its owner', 'releaser', [], true],
  ['an editor with whom it is not shared', 'editor', [], false],
  ['an editor, shared with others', 'editor', ['admin'], false],
  ['an editor with whom it is shared', 'editor', ['jonas'], true],
  ['an editor, shared with all', 'editor', 'all', true],
  ['an administrator', 'administrator', [], true],
])('a workspace is changed and run by whom it is shared with: %s', async (_, role, sharedWith, mayDo) => {
  const all = sharedWith === 'all';
  const shared = await people.releaser.send('put', '/api/workspaces/kept/sharing', {
    all,
    names: all ? [] : sharedWith,
  });
  expect(shared.status).toBe(200);
  for (const route of routesOf(application.app).filter((r) => r.path.includes(':slug') && !isStream(r))) {
    const { status, body } = await ask(people[role], route, 'kept');
    const isRefused = status === 403 && (body as { code: string }).code === 'not-shared';
    expect([keyOf(route), isRefused]).toEqual([keyOf(route), !mayDo && FOR_SHARED.includes(keyOf(route))]);
  }
});

test('in production nobody changes anything but by a release', async () => {
  for (const route of routesOf(application.app).filter((r) => NEEDED[keyOf(r)]!.includes('|'))) {
    const above = NEEDED[keyOf(route)]!.split('|')[1];
    for (const role of PERSON_ROLES) {
      if (above !== 'never' && mayAct(role, above as PersonRole)) continue;
      const { status } = await ask(people[role], route, 'production');
      expect([keyOf(route), role, [400, 403, 409].includes(status) ? 'refused' : status]).toEqual([
        keyOf(route),
        role,
        'refused',
      ]);
    }
  }
});
