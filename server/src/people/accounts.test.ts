import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Account, Issued, OwnSession, SessionAnswer } from '@ouvrage/api/people';
import { existsSync, readFileSync, statSync } from 'node:fs';
import path from 'node:path';
import request from 'supertest';
import { Config } from '../shared/config.js';
import { emptyData } from '../testing-clusters.js';
import { type Client, startApplication, type TestApplication } from '../testing.js';

let application: TestApplication;
let admin: Client;
beforeAll(async () => {
  application = await startApplication();
  admin = await application.signIn('admin');
});
afterAll(async () => {
  // Other tests know nobody else than the demo's people.
  for (const { name, displayName, role, state } of await accounts())
    if (/^new\./.test(name) && state !== 'disabled')
      await admin.send('put', `/api/people/${name}`, { displayName, role, disabled: true });
  await application.close();
});

const GOOD = 'quay lantern forty ribbon';
const accounts = async () => (await admin.get('/api/people')).body as Account[];
const account = async (name: string) => (await accounts()).find((a) => a.name === name);
const serverOf = ({ app }: TestApplication) => app.getHttpServer() as Parameters<typeof request>[0];
const post = (where: string, body: object, of = application) => request(serverOf(of)).post(where).send(body);
const signIn = (name: string, password: string) => post('/api/sign-in', { name, password });

/** What a session asks for. */
interface Signed {
  readonly answer: SessionAnswer;
  readonly ask: (method: 'get' | 'post' | 'put' | 'delete', where: string, body?: object) => request.Test;
}
function signed(answer: request.Response, of = application): Signed {
  const cookie = (answer.headers['set-cookie'] as unknown as string[])[0]!.split(';')[0]!;
  const said = answer.body as SessionAnswer;
  return {
    answer: said,
    ask: (method, where, body) => {
      const asked = request(serverOf(of))[method](where).set('cookie', cookie).set('x-csrf-token', said.csrf!);
      return body === undefined ? asked : asked.send(body);
    },
  };
}

async function added(name: string, of: Partial<{ role: string; issue: string; displayName: string }> = {}) {
  const body = { name, displayName: `Person ${name}`, role: 'editor', issue: 'link', ...of };
  return admin.send('post', '/api/people', body);
}
async function joined(name: string, role = 'editor'): Promise<Signed> {
  const { secret } = (await added(name, { role })).body as Issued;
  return signed(await post('/api/links/use', { link: secret, password: GOOD }));
}

describe('somebody is added', () => {
  test('by a link: good once, for who may sign in, and only for a password that is hard to guess', async () => {
    const issued = (await added('new.link')).body as Issued;
    expect(issued).toMatchObject({ kind: 'link', secret: expect.stringMatching(/^[\w-]{43}$/) });
    expect(await account('new.link')).toMatchObject({ state: 'link issued', role: 'editor', lastSignInAt: null });
    const look = await post('/api/links/look', { link: issued.secret });
    expect(look.body).toEqual({ name: 'new.link', displayName: 'Person new.link' });
    const weak = await post('/api/links/use', { link: issued.secret, password: 'password123' });
    expect([weak.status, weak.body.code]).toEqual([422, 'weak-password']);
    const { answer, ask } = signed(await post('/api/links/use', { link: issued.secret, password: GOOD }));
    expect(answer).toMatchObject({ person: { name: 'new.link', role: 'editor' }, mustChange: false });
    expect((await ask('get', '/api/workspaces')).status).toBe(200);
    expect((await post('/api/links/use', { link: issued.secret, password: GOOD })).body.code).toBe('wrong-link');
    expect((await post('/api/links/look', { link: issued.secret })).body.code).toBe('wrong-link');
    expect((await signIn('new.link', GOOD)).status).toBe(200);
    expect((await account('new.link'))!.state).toBe('active');
    expect((await account('new.link'))!.lastSignInAt).not.toBeNull();
  });

  test('of two who use a link at once, one comes second', async () => {
    const { secret } = (await added('new.race')).body as Issued;
    const answers = await Promise.all(
      ['first', 'second'].map((n) => post('/api/links/use', { link: secret, password: `${GOOD} ${n}` })),
    );
    expect(answers.map((a) => a.status).sort()).toEqual([200, 404]);
  });

  test('by a password, which opens nothing but its own change', async () => {
    const issued = (await added('new.given', { issue: 'password' })).body as Issued;
    expect(issued).toMatchObject({ kind: 'password', endsAt: null });
    const { answer, ask } = signed(await signIn('new.given', issued.secret));
    expect(answer.mustChange).toBe(true);
    for (const where of ['/api/workspaces', '/api/tokens', '/api/me/sessions', '/api/docs-json'])
      expect([where, (await ask('get', where)).body.code]).toEqual([where, 'choose-password']);
    expect((await ask('post', '/api/tokens', { label: 'x' })).body.code).toBe('choose-password');
    const change = (present: string, password: string) => ask('put', '/api/me/password', { present, password });
    expect((await change('wrong', GOOD)).body.code).toBe('wrong-password');
    expect((await change(issued.secret, issued.secret)).body.code).toBe('same-password');
    expect((await change(issued.secret, 'Person new.given')).body.code).toBe('weak-password');
    expect((await change(issued.secret, GOOD)).status).toBe(204);
    expect((await ask('get', '/api/workspaces')).status).toBe(200);
    expect((await signIn('new.given', issued.secret)).status).toBe(401);
  });

  test.each([
    ['a name that is taken', { name: 'mira' }, 409, 'name-taken'],
    ['the application’s own name', { name: 'ouvrage' }, 409, 'name-taken'],
    ['what somebody else is called', { displayName: 'mira okafor' }, 409, 'name-taken'],
    ['another author line', { displayName: 'Nils <mira@ouvrage.invalid>' }, 422, 'bad-name'],
    ['signs that cannot be seen', { displayName: 'Mira\u200b Okafor' }, 422, 'bad-name'],
    ['the name of a job', { displayName: 'Job morning' }, 422, 'bad-name'],
    ['spaces alone', { displayName: '  ' }, 422, 'bad-name'],
    ['a path', { name: '../x' }, 400, 'bad-input'],
    ['capitals', { name: 'Nils' }, 400, 'bad-input'],
    ['no such role', { role: 'owner' }, 400, 'bad-input'],
  ])('not by %s', async (_, of, status, code) => {
    const answer = await admin.send('post', '/api/people', {
      ...{ name: 'new.bad', displayName: 'Person new.bad', role: 'editor', issue: 'link' },
      ...of,
    });
    expect([answer.status, (answer.body as { code: string }).code]).toEqual([status, code]);
    expect(await account('new.bad')).toBeUndefined();
  });
});

describe('a person is changed', () => {
  const change = (name: string, of: object) => admin.send('put', `/api/people/${name}`, of);

  test('a role holds from the next request on, both ways', async () => {
    const { ask } = await joined('new.role', 'viewer');
    const open = () => ask('post', '/api/workspaces', { name: 'Of a new role' });
    expect((await open()).status).toBe(403);
    const as = { displayName: 'Person new.role', disabled: false };
    await change('new.role', { ...as, role: 'editor' });
    expect((await open()).status).toBe(201);
    await change('new.role', { ...as, role: 'viewer' });
    expect((await open()).status).toBe(403);
  });

  test('who is disabled is signed out, and their password, tokens and link open nothing', async () => {
    const { ask } = await joined('new.gone');
    const { token } = (await ask('post', '/api/tokens', { label: 'x' })).body as { token: string };
    const byToken = () => request(serverOf(application)).get('/api/workspaces').set('authorization', `Bearer ${token}`);
    expect((await byToken()).status).toBe(200);
    const as = { displayName: 'Person new.gone', role: 'editor' };
    expect((await change('new.gone', { ...as, disabled: true })).body).toMatchObject({ state: 'disabled' });
    expect((await ask('get', '/api/workspaces')).status).toBe(401);
    expect((await byToken()).status).toBe(401);
    for (const [where, people] of [
      ['workspaces/berth-dues/sharing', (b: never) => (b as { people: object[] }).people],
      ['incidents', (b: never) => (b as { people: object[] }).people],
      ['receivers', (b: never) => (b as { people: object[] }).people],
    ] as const) {
      const names = people((await admin.get(`/api/${where}`)).body as never).map((p) => (p as { name: string }).name);
      expect([where, names.includes('jonas'), names.includes('new.gone')]).toEqual([where, true, false]);
    }
    const known = await signIn('new.gone', GOOD);
    expect([known.status, known.body.code]).toEqual([403, 'disabled']);
    expect((await signIn('new.gone', 'wrong')).body.code).toBe('wrong-password');
    expect(
      ((await admin.send('post', '/api/people/new.gone/reset', { issue: 'link' })).body as { code: string }).code,
    ).toBe('disabled');
    await change('new.gone', { ...as, disabled: false });
    expect((await signIn('new.gone', GOOD)).status).toBe(200);
    expect((await byToken()).status).toBe(200);
  });

  test('a reset ends sessions and the password, and issues another link, which alone is good', async () => {
    const { ask } = await joined('new.reset');
    const [first, second] = await Promise.all(
      [1, 2].map(
        async () => (await admin.send('post', '/api/people/new.reset/reset', { issue: 'link' })).body as Issued,
      ),
    );
    expect((await ask('get', '/api/workspaces')).status).toBe(401);
    expect((await signIn('new.reset', GOOD)).status).toBe(401);
    const good = await Promise.all([first, second].map((i) => post('/api/links/look', { link: i!.secret })));
    expect(good.map((a) => a.status).sort()).toEqual([200, 404]);
  });

  test('an administrator who can sign in is always left, however many change at once', async () => {
    const self = { displayName: 'Ada Minch', role: 'administrator', disabled: true };
    expect(((await change('admin', self)).body as { code: string }).code).toBe('is-yourself');
    // Who has not chosen a password yet cannot take over.
    await added('new.chief', { role: 'administrator' });
    const lower = { displayName: 'Ada Minch', role: 'editor', disabled: false };
    expect(((await change('admin', lower)).body as { code: string }).code).toBe('last-administrator');
    const other = await joined('new.head', 'administrator');
    const answers = await Promise.all([
      change('admin', lower),
      other.ask('put', '/api/people/new.head', { ...lower, displayName: 'Person new.head' }),
    ]);
    expect(answers.map((a) => a.status).sort()).toEqual([200, 409]);
    const left = answers[0].status === 200 ? other : undefined;
    await left?.ask('put', '/api/people/admin', { ...lower, role: 'administrator' });
    expect(await account('admin')).toMatchObject({ role: 'administrator' });
  });
});

describe('sessions', () => {
  test('one sees one’s own and ends them; a changed password ends the others', async () => {
    const here = await joined('new.seen');
    const list = async () => (await here.ask('get', '/api/me/sessions')).body as OwnSession[];
    const others = [signed(await signIn('new.seen', GOOD)), signed(await signIn('new.seen', GOOD))];
    expect((await list()).map((s) => s.isThis).sort()).toEqual([false, false, true]);
    const strange = ((await admin.get('/api/me/sessions')).body as OwnSession[])[0]!.number;
    expect((await here.ask('delete', `/api/me/sessions/${strange}`)).status).toBe(404);
    for (const s of (await list()).filter((found) => !found.isThis).slice(0, 1))
      expect((await here.ask('delete', `/api/me/sessions/${s.number}`)).status).toBe(204);
    const on = async () => (await Promise.all(others.map((o) => o.ask('get', '/api/workspaces')))).map((a) => a.status);
    expect((await on()).sort()).toEqual([200, 401]);
    expect((await here.ask('put', '/api/me/password', { present: GOOD, password: `${GOOD} two` })).status).toBe(204);
    expect(await on()).toEqual([401, 401]);
    expect(await list()).toMatchObject([{ isThis: true }]);
  });

  test('they end when they are not used, and when they are old, by limits that hold for those that are there', async () => {
    const { ask } = await joined('new.idle');
    const status = async () => (await ask('get', '/api/workspaces')).status;
    const { passwords, postgresPort } = JSON.parse(
      readFileSync(path.join(application.config.data, 'config.json'), 'utf8'),
    ) as { passwords: Record<string, string>; postgresPort: number };
    const { default: pg } = await import('pg');
    const db = new pg.Client({
      ...application.config.application,
      port: postgresPort,
      password: passwords['application']!,
    });
    await db.connect();
    const ago = (column: string, hours: number) =>
      db.query(
        `update session set ${column} = now() - $1 * interval '1 hour' where person_id = (select id from person where name = 'new.idle')`,
        [hours],
      );
    try {
      await ago('used_at', 23);
      expect(await status()).toBe(200);
      // It was used just now.
      expect(
        (await db.query(`select 1 from session where used_at > now() - interval '1 minute'`)).rowCount,
      ).toBeGreaterThan(0);
      await ago('used_at', 25);
      expect(await status()).toBe(401);
      await ago('used_at', 0);
      await ago('begun_at', 7 * 24 + 1);
      expect(await status()).toBe(401);
      await ago('begun_at', 2 * 24);
      expect(await status()).toBe(200);
      await admin.send('put', '/api/session-limits', { idleHours: 24, days: 1 });
      expect(await status()).toBe(401);
    } finally {
      await admin.send('put', '/api/session-limits', { idleHours: 24, days: 7 });
      await db.end();
    }
  });
});

test('the log says who did what to whom, and is only added to', async () => {
  const { default: pg } = await import('pg');
  await joined('new.logged');
  await admin.send('put', '/api/people/new.logged', {
    displayName: 'Person new.logged',
    role: 'releaser',
    disabled: false,
  });
  const log = (await admin.get('/api/audit?text=new.logged')).body as {
    action: string;
    person: string;
    detail: object;
  }[];
  expect(log.map((e) => [e.person, e.action, e.detail])).toEqual([
    ['admin', 'person changed', { role: ['editor', 'releaser'] }],
    ['new.logged', 'password chosen by link', null],
    ['admin', 'person added', { displayName: 'Person new.logged', role: 'editor', issue: 'link' }],
  ]);
  const file = await admin.get('/api/audit/export?text=new.logged');
  expect(file.text.split('\r\n').map((l) => l.replace(/^[\dTZ:.-]+,/, ''))).toEqual([
    'at,person,action,subject,detail',
    'admin,log exported,new.logged,',
    'admin,person changed,new.logged,"{""role"":[""editor"",""releaser""]}"',
    expect.stringMatching(/^new\.logged,password chosen by link,/),
    expect.stringMatching(/^admin,person added,new\.logged,/),
    '',
  ]);
  expect(((await admin.get('/api/audit?text=log exported')).body as object[])[0]).toMatchObject({
    person: 'admin',
    subject: 'new.logged',
  });
  const db = new pg.Client({ ...application.config.application });
  await db.connect();
  try {
    for (const sql of ['update audit set person = $$x$$', 'delete from audit', 'truncate audit'])
      await expect(db.query(sql)).rejects.toThrow('the log is only added to');
  } finally {
    await db.end();
  }
});

describe('a first start without the demo', () => {
  let empty: TestApplication;
  let end: () => Promise<void>;
  beforeAll(async () => {
    const made = await emptyData(5746);
    end = made.end;
    empty = await startApplication(new Config(made.data, 0, false));
  }, 180_000);
  afterAll(async () => {
    await empty.close();
    await end();
  });

  test('the first administrator is made by the code that the start prints, once', async () => {
    const file = path.join(empty.config.data, 'setup-code.txt');
    expect(statSync(file).mode & 0o077).toBe(0);
    const code = readFileSync(file, 'utf8').trim();
    const session = async () => (await request(serverOf(empty)).get('/api/session')).body as SessionAnswer;
    expect(await session()).toMatchObject({ person: null, needsSetup: true });
    const asked = { code, name: 'ada', displayName: 'Ada Minch', password: GOOD };
    const setUp = (of: Partial<typeof asked>) => post('/api/setup', { ...asked, ...of }, empty);
    expect((await setUp({ code: 'x' })).body.code).toBe('wrong-code');
    expect((await setUp({ password: 'password' })).body.code).toBe('weak-password');
    const answers = await Promise.all([setUp({ name: 'one' }), setUp({ name: 'two', displayName: 'Other' })]);
    expect(answers.map((a) => a.status).sort()).toEqual([200, 409]);
    const first = signed(
      answers.find((a) => a.status === 200)!,
      empty,
    );
    expect(first.answer).toMatchObject({ person: { role: 'administrator' }, needsSetup: false });
    expect((await first.ask('get', '/api/people')).body).toHaveLength(1);
    expect((await setUp({})).body.code).toBe('is-set-up');
    expect([existsSync(file), (await session()).needsSetup]).toEqual([false, false]);
  });
});
