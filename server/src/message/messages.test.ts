import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { Desk, NoticeList, OutboxEntry, Reading, Receivers, SendingEntry } from '@ouvrage/api/message';
import { waitDay } from '@ouvrage/core/watch';
import { DataSource } from 'typeorm';
import { ClockService } from '../run/clock.service.js';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';
import { MessageFollower } from './message-follower.js';
import { signature } from './webhook.js';

/** People are told of what happens in production: in the application, by mail and by webhook, through the outbox. */
let application: TestApplication;
let admin: Client;
let mira: Client;
let vera: Client;
let hook: string;
beforeAll(async () => {
  application = await startApplication();
  [admin, mira, vera] = (await Promise.all(['admin', 'mira', 'vera'].map((n) => application.signIn(n)))) as [
    Client,
    Client,
    Client,
  ];
  const { desks } = (await admin.get('/api/receivers')).body as Receivers;
  hook = desks.find((d) => d.name === 'dues office')!.webhook!;
});
afterAll(() => application.close());

const query = <T>(sql: string, values: unknown[] = []) => application.app.get(DataSource).query<T[]>(sql, values);
const outbox = async () => (await mira.get('/api/outbox')).body as OutboxEntry[];
const notices = async (who = mira) => (await who.get('/api/messages')).body as NoticeList;
const desk = ({ name, members = [], mail = null, webhook = null }: Partial<Desk> & { name: string }) => ({
  name,
  members,
  mail,
  webhook,
});

/** Waits until something is so. */
async function until<T>(find: () => Promise<T | undefined>): Promise<T> {
  for (;;) {
    const found = await find();
    if (found !== undefined) return found;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
}
const arrived = (subject: RegExp, channel: 'mail' | 'webhook' = 'mail') =>
  until(async () => (await outbox()).find((e) => subject.test(e.subject) && e.channel === channel));

const TIDES = (options: string, table = 'core.tides') => `create table ${table} (
  quay text not null,
  metres numeric constraint tides_are_positive check (metres > 0)
) with (load = merge, business_key = 'quay', owner = 'dues office', severity = high${options});
select quay, metres from (values ('north', 4.5), ('south', 3.5)) as v (quay, metres);
`;
async function release(name: string, files: Readonly<Record<string, string>>): Promise<void> {
  const slug = await workspace(mira, name);
  for (const [path, text] of Object.entries(files)) await draft(mira, slug, path, () => text);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: name });
  const { body } = await mira.send('post', `/api/workspaces/${slug}/release`, { message: name });
  expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
}
async function check(table = 'core.tides'): Promise<number> {
  const { body } = await mira.send('post', '/api/workspaces/production/checks', { tables: [table], checks: [] });
  const { id } = await mira.ended((body as { id: number }).id);
  await until(async () =>
    (await query<{ followed: boolean }>('select followed from run where id = $1', [id]))[0]!.followed
      ? true
      : undefined,
  );
  return id;
}
async function load(table = 'core.tides'): Promise<void> {
  const asked = { tables: [table], upstream: false, downstream: false };
  const { body } = await mira.send('post', '/api/workspaces/production/runs', asked);
  await mira.ended((body as { id: number }).id);
}

test('a broken check is told once to its owner, in the application, by mail and by webhook; again after it held', async () => {
  await release('Tides', { 'core/tides.sql': TIDES('') });
  await warehouse('update core.tides set metres = -1');
  await check();
  const [notice] = (await notices()).notices;
  expect(notice).toMatchObject({
    kind: 'failure',
    severity: 'high',
    title: 'core.tides: metres > 0 does not hold',
    lines: [
      expect.stringMatching(/^Since \d{4}-\d\d-\d\d \d\d:\d\d UTC\.$/),
      '2 rows at fault.',
      'It concerns dues office.',
    ],
    path: '/w/production/quality/core.tides/tides_are_positive',
    readAt: null,
  });
  const mail = await until(async () => (await outbox()).find((e) => e.to === 'mira@saltmere.example'));
  expect(mail.subject).toBe('core.tides: metres > 0 does not hold');
  expect(mail.body).toContain('2 rows at fault.');
  expect(mail.body).toMatch(/http:\/\/127\.0\.0\.1:\d+\/w\/production\/quality\/core\.tides\/tides_are_positive/);
  const posted = await arrived(/^core\.tides: metres > 0/, 'webhook');
  expect(posted.to).toBe('/dues-office');
  const before = (await outbox()).length;
  await check();
  expect((await notices()).notices.filter((n) => n.title.startsWith('core.tides'))).toHaveLength(1);
  await load();
  await warehouse('update core.tides set metres = -2');
  await check();
  expect((await notices()).notices.filter((n) => n.title.startsWith('core.tides'))).toHaveLength(2);
  await until(async () => ((await outbox()).length > before ? true : undefined));
  await load();
});

test('the webhook’s signature proves id, time and body; its secret is told once, to an administrator', async () => {
  const name = 'signing desk';
  const made = (await admin.send('post', '/api/desks', desk({ name, webhook: hook }))).body as {
    id: string;
    secret: string;
  };
  expect(made.secret).toMatch(/^[\w-]{40,}$/);
  const again = await admin.send('put', `/api/desks/${made.id}`, desk({ name, webhook: hook, members: ['mira'] }));
  expect(again.body).toEqual({ id: made.id, secret: null });
  await release('Signed', { 'core/tides.sql': TIDES('').replace("'dues office'", `'${name}'`) });
  await warehouse('update core.tides set metres = -3');
  await check();
  const posted = await until(async () =>
    (await outbox()).find((e) => e.channel === 'webhook' && e.body.includes('signing desk')),
  );
  const [head, body] = posted.body.split('\n\n') as [string, string];
  const [time, sent] = head.split('\n').map((l) => l.split(': ')[1]!) as [string, string];
  expect(sent).toBe(signature(made.secret, { id: posted.id, time, body }));
  await load();
});

test('an incident is one message, and another one when it is closed; failing again adds none', async () => {
  await release('Tides tell', { 'core/tides.sql': TIDES(', open_incident = true') });
  await warehouse('update core.tides set metres = -4');
  await check();
  await check();
  const opened = (await notices()).notices.filter((n) => /^Incident \d+ opened: core\.tides/.test(n.title));
  expect(opened).toHaveLength(1);
  expect(opened[0]!.lines).toContain('2 rows at fault.');
  const id = Number(/\d+/.exec(opened[0]!.title)![0]);
  await load();
  await mira.send('post', `/api/incidents/${id}/close`, { learned: 'Gauges freeze.' });
  const [closed] = (await notices()).notices;
  expect(closed).toMatchObject({ title: `Incident ${id} closed: core.tides: metres > 0`, kind: 'incident' });
  expect(closed!.lines).toContain('Learned: Gauges freeze.');
});

test('unread notices are counted until they are read', async () => {
  const { unread, notices: all } = await notices();
  expect(unread).toBe(all.length);
  await mira.send('post', '/api/messages/read', { ids: [all[0]!.id] });
  expect((await notices()).unread).toBe(unread - 1);
  await vera.send('post', '/api/messages/read', { ids: [] });
  expect((await notices()).unread).toBe(unread - 1);
  await mira.send('post', '/api/messages/read', { ids: [] });
  expect((await notices()).unread).toBe(0);
});

describe('on its way', () => {
  const EBBS = 'core.ebbs';
  const fail = async (metres: number) => {
    await load(EBBS);
    await warehouse(`update ${EBBS} set metres = ${metres}`);
    await check(EBBS);
  };
  beforeAll(() => release('Ebbs', { 'core/ebbs.sql': TIDES('', EBBS) }));

  test('a sending that a kill interrupted is repeated with the same id: one entry, a repeat counted', async () => {
    await fail(-5);
    const [row] = await until(async () => {
      const found = await query<{ id: string; bundle: string }>(
        `select s.id, s.bundle from sending s join message m on m.id = s.message_id where s.state = 'sent' and s.channel = 'mail' and s.receiver = 'person:mira' and m.key like 'failing:check:core.ebbs%' order by m.at desc limit 1`,
      );
      return found.length ? found : undefined;
    });
    // As it is where the server ends after the mail is out and before that is written down.
    await query(`update sending set state = 'waiting', sent_at = null, due = now() where id = $1`, [row!.id]);
    await until(async () =>
      (await query(`select from sending where id = $1 and state = 'sent'`, [row!.id])).length ? true : undefined,
    );
    const same = (await outbox()).filter((e) => e.id.includes(row!.bundle));
    expect(same.map((e) => e.repeats)).toEqual([1]);
  });

  test('a receiver that is dead holds nobody up; it is tried again and given up after a day, which administrators see', async () => {
    const { desks } = (await admin.get('/api/receivers')).body as Receivers;
    const dues = desks.find((d) => d.name === 'dues office')!;
    await admin.send('put', `/api/desks/${dues.id}`, desk({ ...dues, webhook: 'http://127.0.0.1:1/dead' }));
    const started = Date.now();
    await fail(-6);
    expect(Date.now() - started).toBeLessThan(20_000);
    const waiting = await until(async () => {
      const log = (await admin.get('/api/sendings?state=waiting')).body as SendingEntry[];
      return log.find((s) => s.channel === 'webhook' && s.attempts > 0);
    });
    expect(waiting).toMatchObject({ to: 'dues office', error: expect.stringContaining('ECONNREFUSED') });
    await query(
      `with old as (update message set at = at - interval '25 hours' where id = (select message_id from sending where id = $1))
       update sending set due = now() where id = $1`,
      [waiting.id],
    );
    await until(async () => {
      const log = (await admin.get('/api/sendings?state=given%20up')).body as SendingEntry[];
      return log.find((s) => s.id === waiting.id);
    });
    await admin.send('put', `/api/desks/${dues.id}`, desk({ ...dues, webhook: hook }));
    expect((await admin.send('post', `/api/sendings/${waiting.id}/again`)).status).toBe(204);
    await until(async () =>
      (await query(`select from sending where id = $1 and state = 'sent'`, [waiting.id])).length ? true : undefined,
    );
  });

  test('messages of a digest go together under one id', async () => {
    const { mail: _, ...reading } = (await mira.get('/api/reading')).body as Reading;
    const asked = { ...reading, digest: 'day', zone: 'Europe/Paris' };
    expect((await mira.send('put', '/api/reading', asked)).status).toBe(204);
    await fail(-7);
    await fail(-8);
    const rows = await query<{ id: string; due: Date }>(
      `select id, due from sending where receiver = 'person:mira' and channel = 'mail' and state = 'waiting'`,
    );
    expect(rows).toHaveLength(2);
    expect(rows.every((r) => r.due.getTime() > Date.now())).toBe(true);
    await query(`update sending set due = now() where id = any($1)`, [rows.map((r) => r.id)]);
    const digest = await arrived(/^2 messages: core\.ebbs/);
    expect(digest.body.match(/does not hold \(high\)/g)).toHaveLength(2);
    await mira.send('put', '/api/reading', reading);
    await load(EBBS);
  });

  test('a source that is late is told of once', async () => {
    const { subscriptions, mail: _, ...reading } = (await vera.get('/api/reading')).body as Reading;
    const all = [...subscriptions, { kind: 'table', value: 'landing.vessel', least: 'low' }];
    await vera.send('put', '/api/reading', { ...reading, subscriptions: all });
    await query(`update source_state set newest = '2001-01-01 00:00:00+00' where table_name = 'landing.vessel'`);
    const follower = application.app.get(MessageFollower);
    await follower.lateSources();
    await follower.lateSources();
    const late = (await notices(vera)).notices.filter((n) => n.kind === 'late' && n.title === 'landing.vessel is late');
    expect(late).toHaveLength(1);
    expect(late[0]!.lines[0]).toBe('Its newest row is of 2001-01-01 00:00 UTC; 36 hours are allowed.');
  });
  test('one that has only learned when it is late says so', async () => {
    const day = waitDay((await application.app.get(ClockService).harbour())!);
    const waits = Array.from({ length: 20 }, (_, i) => ({ day: day - 20 + i, value: 90_000 }));
    await query(
      `update source_state set newest = null, brought_in_at = '2001-01-01 00:00:00+00', waits = $1 where table_name = 'landing.berth' and environment = 'production'`,
      [JSON.stringify(waits)],
    );
    await application.app.get(MessageFollower).lateSources();
    const told = (
      await query<{ lines: string[] }>(`select lines from message where title = 'landing.berth is late'`)
    )[0]!;
    expect(told.lines[0]).toMatch(/^Its newest row is of 2001-01-01 00:00 UTC; usually it is at most 1 d \d h old\.$/);
  });
});

describe('receivers', () => {
  test('addresses are for administrators; one’s own is one’s own', async () => {
    const seen = async (who: Client) => {
      const { people, desks } = (await who.get('/api/receivers')).body as Receivers;
      return [people.find((p) => p.name === 'mira')!.mail, desks.some((d) => d.webhook !== null)];
    };
    expect([await seen(admin), await seen(mira), await seen(vera)]).toEqual([
      ['mira@saltmere.example', true],
      ['mira@saltmere.example', false],
      [null, false],
    ]);
  });
  test('an owner who is nobody is named with the nearest who is', async () => {
    await release('Owners', { 'core/tides.sql': TIDES('').replace("'dues office'", "'dues ofice'") });
    const { unknown } = (await admin.get('/api/receivers')).body as Receivers;
    expect(unknown).toContainEqual({ owner: 'dues ofice', tables: ['core.tides'], nearest: 'dues office' });
  });
  test.each<[string, string, Record<string, unknown>, number]>([
    ['a member who is nobody', '/api/desks', desk({ name: 'x', members: ['mirra'] }), 422],
    ['a webhook that is no address', '/api/desks', desk({ name: 'x', webhook: 'file:///etc/passwd' }), 422],
    ['a mail address that is none', '/api/desks', desk({ name: 'x', mail: 'nobody' }), 400],
    ['a name that is taken', '/api/desks', desk({ name: 'dues office' }), 409],
  ])('%s is refused', async (_, path, body, status) => {
    expect((await admin.send('post', path, body)).status).toBe(status);
  });
  test.each<[string, Record<string, unknown>]>([
    ['a range that is none', { publicAddress: '', mail: null, ranges: ['10.0.0.0/99'] }],
    ['an address that is none', { publicAddress: 'javascript:alert(1)', mail: null, ranges: [] }],
  ])('%s is refused', async (_, body) => {
    expect((await admin.send('put', '/api/sending', body)).status).toBe(422);
  });
  test('a password of the mail server stays for that server, and is shown to nobody', async () => {
    const { body: before } = await admin.get('/api/sending');
    const server = { host: 'mail.example', port: 587, tls: 'starttls', user: 'u', from: 'a@b.example' };
    const save = (mail: object) => admin.send('put', '/api/sending', { ...(before as object), mail });
    const has = async () =>
      ((await admin.get('/api/sending')).body as { mail: { hasPassword: boolean } }).mail.hasPassword;
    await save({ ...server, password: 'secret' });
    expect(JSON.stringify((await admin.get('/api/sending')).body)).not.toContain('secret');
    await save(server);
    expect(await has()).toBe(true);
    await save({ ...server, host: 'evil.example' });
    expect(await has()).toBe(false);
    const { mail } = before as { mail: Record<string, unknown> };
    const { hasPassword: _, ...shown } = mail;
    await save(shown);
  });
});
