import { existsSync } from 'node:fs';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import type { AnatomyLine, PlanAnswer } from '@ouvrage/api/anatomy';
import type { Rows } from '@ouvrage/api/rows';
import type { FigureName } from '@ouvrage/core/anatomy';
import pg from 'pg';
import { draft, startApplication, warehouse, workspace, type Client, type TestApplication } from '../testing.js';

/** Steps of queries counted, their rows, and plans, through the API. */
let application: TestApplication;
let mira: Client;
let vera: Client;
beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  vera = await application.signIn('vera');
});
afterAll(() => application.close());

const PRODUCTION = '/api/workspaces/production';
const ADHOC = 'adhoc/x.sql';
type Of<K extends AnatomyLine['kind']> = Extract<AnatomyLine, { kind: K }>;

interface Counted {
  readonly status: number;
  readonly lines: readonly AnatomyLine[];
  readonly text: string;
}

async function count(
  text: string,
  { client = mira, at = PRODUCTION, path = ADHOC, force = false } = {},
): Promise<Counted> {
  const answer = await client.send('post', `${at}/anatomy`, { path, text, force }).then((a) => a);
  const lines =
    answer.status === 200
      ? answer.text
          .trim()
          .split('\n')
          .map((l) => JSON.parse(l) as AnatomyLine)
      : [];
  return { status: answer.status, lines, text: answer.text };
}

const linesOf = <K extends AnatomyLine['kind']>({ lines }: Counted, kind: K) =>
  lines.filter((l): l is Of<K> => l.kind === kind);

/** The rows of each step, `-` where they were not counted. */
function rowsOf(counted: Counted, side: 'here' | 'production' = 'here'): string[] {
  const steps = linesOf(counted, 'steps').find((l) => l.side === side)!.steps;
  const rows = new Map<string, number>(
    steps.flatMap((s) => (s.known.rows === undefined ? [] : [[s.id, s.known.rows]])),
  );
  for (const line of linesOf(counted, 'figures'))
    if (line.side === side) for (const f of line.figures) if (f.figure === 'rows') rows.set(f.step, f.value);
  const of = (id: string): number | undefined => {
    const step = steps.find((s) => s.id === id)!;
    return (
      rows.get(id) ?? step.rowsOf?.reduce<number | undefined>((n, r) => (n === undefined ? n : (of(r) ?? NaN) + n), 0)
    );
  };
  return steps.map((s) => `${s.id} ${of(s.id) ?? '-'}`);
}

const figure = (counted: Counted, step: string, name: FigureName) =>
  linesOf(counted, 'figures')
    .flatMap((l) => l.figures)
    .find((f) => f.step === step && f.figure === name)?.value;

const DEMO = new URL('../../../demo/project/', import.meta.url);
describe('the demo’s queries', () => {
  test('are all counted, and each result is what the query returns', async () => {
    const { files } = (await mira.get(`${PRODUCTION}/files`)).body as { files: Record<string, string> };
    const wrong: string[] = [];
    let queries = 0;
    for (const [path, text] of Object.entries(files)) {
      // What other tests have released beside the demo's own is theirs.
      if (!/^(adhoc|checks|staging|core|mart|vault)\/.*\.sql$/.test(path) || !existsSync(new URL(path, DEMO))) continue;
      const counted = await count(text, { path });
      if (counted.status !== 200) continue;
      queries++;
      const preview = (await mira.send('post', `${PRODUCTION}/preview`, { path, text, limit: 1 })).body as Rows;
      if (rowsOf(counted).at(-1) !== `result ${preview.total}`)
        wrong.push(`${path}: ${rowsOf(counted).at(-1)} is ${preview.total}`);
      for (const failed of linesOf(counted, 'failed')) wrong.push(`${path}: ${failed.error.message}`);
      if (rowsOf(counted).some((r) => r.endsWith(' -'))) wrong.push(`${path}: ${rowsOf(counted).join('; ')}`);
    }
    expect(wrong).toEqual([]);
    expect(queries).toBeGreaterThan(30);
  });
  test('have the verdicts of their contract', async () => {
    const { files } = (await mira.get(`${PRODUCTION}/files`)).body as { files: Record<string, string> };
    const counted = await count(files['core/dim_vessel.sql']!, { path: 'core/dim_vessel.sql' });
    const { checks } = linesOf(counted, 'checks')[0]!;
    const [without] = await warehouse(
      'select count(*) as n from core.dim_vessel where is_current and flag_code is null',
    );
    expect(checks.find((c) => c.name === 'flag_code is never null')).toEqual({
      name: 'flag_code is never null',
      isAdvisory: true,
      atFault: Number(without!['n']),
    });
  });
});

test('a draft is counted beside production, step by step, and the join that multiplies is named', async () => {
  const at = '/api/workspaces/dues-by-rate';
  const { drafts } = (await mira.get(`${at}/files`)).body as { drafts: { path: string; text: string }[] };
  const { path, text } = drafts.find((d) => d.path === 'mart/vessel_dues.sql')!;
  // The workspace's own definitions count: what it has changed upstream is put in as queries, over rows of today.
  const whole = `
    select count(*), count(distinct d.id), count(distinct r.berth_code)
    from (select row_number() over () as id, * from core.fact_dues) d
    left join core.dim_vessel v on v.hull_no = d.hull_no and v.is_current
    left join core.berth_rate r on r.berth_code = d.berth_code`;
  const [row] = ((await mira.send('post', `${at}/preview`, { path: ADHOC, text: whole, limit: 1 })).body as Rows).rows;
  const [multiplied, joined, berths] = row!.map(Number);
  const counted = await count(text, { at, path });
  expect(multiplied).toBeGreaterThan(joined!);
  expect(rowsOf(counted)).toContain(`join core.berth_rate ${multiplied}`);
  const [{ n }] = (await warehouse('select count(*) as n from core.fact_dues')) as [{ n: string }];
  expect(rowsOf(counted, 'production')).toContain(`join core.dim_vessel ${n}`);
  expect(figure(counted, 'join core.berth_rate', 'leftKeys')).toBe(berths);
  const asked = { path, text, step: 'join core.berth_rate', limit: 5 };
  const keys = (await mira.send('post', `${at}/anatomy/rows`, { ...asked, look: 'keys' })).body as Rows;
  expect(keys.columns.map((c) => c.name)).toEqual(['d.berth_code', 'left rows', 'right rows']);
  expect(await warehouse(`select count(*) as n from core.berth_rate where berth_code = '${keys.rows[0]![0]}'`)).toEqual(
    [{ n: keys.rows[0]![2] }],
  );
  const right = (await mira.send('post', `${at}/anatomy/rows`, { ...asked, look: 'rightRows' })).body as Rows;
  expect(right.columns.map((c) => c.name)).toEqual(['berth_code', 'as_of', 'rate', 'charged', 'is_current']);
  const other = await mira.send('post', `${at}/anatomy/rows`, { ...asked, step: 'nothing', look: 'rows' });
  expect(other.status).toBe(404);
});

test('what was counted is counted again once an input is loaded or changes', async () => {
  const slug = await workspace(mira, 'Counted');
  await draft(
    mira,
    slug,
    'staging/few.sql',
    () => 'create table staging.few as select n from generate_series(1, 4) as s (n)',
  );
  const at = `/api/workspaces/${slug}`;
  const run = async () => {
    const { body } = await mira.send('post', `${at}/runs`, {
      tables: ['staging.few'],
      upstream: false,
      downstream: false,
    });
    await mira.ended((body as { id: number }).id);
  };
  await run();
  const text = 'select n from staging.few where n > 1';
  expect(rowsOf(await count(text, { at }))).toEqual(['source staging.few 4', 'filter 3', 'result 3']);
  await draft(
    mira,
    slug,
    'staging/few.sql',
    () => 'create table staging.few as select n from generate_series(1, 6) as s (n)',
  );
  // Not built: its query is put in.
  expect(rowsOf(await count(text, { at }))).toEqual(['source staging.few 6', 'filter 5', 'result 5']);
  await run();
  expect(rowsOf(await count(text, { at }))).toEqual(['source staging.few 6', 'filter 5', 'result 5']);
});

const SLOW = 'select count(*) as n from generate_series(1, 9000000) as a (n) where n > 5';

describe('what takes long', () => {
  test('is not begun unasked', async () => {
    const counted = await count(
      'select a.n from generate_series(1, 90000) as a (n), generate_series(1, 90000) as b (m)',
    );
    expect(linesOf(counted, 'steps')[0]).toMatchObject({ isHeld: true });
    expect(linesOf(counted, 'steps')[0]!.seconds).toBeGreaterThan(10);
    expect(linesOf(counted, 'figures')).toEqual([]);
  });
  test('gives way to the next counting and to the person’s previews', async () => {
    const first = count(SLOW, { client: vera, force: true });
    await begun();
    const second = count(SLOW, { client: vera, force: true });
    expect(linesOf(await first, 'stopped')[0]?.error.message).toBe('Counting gave way to another query of yours');
    await begun();
    const preview = (text: string) =>
      vera.send('post', `${PRODUCTION}/preview`, { path: ADHOC, text, limit: 1 }).then((a) => a);
    const slow = [preview(SLOW), preview(SLOW)];
    await begun(3);
    expect((await preview('select 1 as one')).status).toBe(200);
    expect(linesOf(await second, 'stopped')).toHaveLength(1);
    await Promise.all(slow);
  });
  test('makes room for a swap that waits, and begins again', async () => {
    const client = new pg.Client(application.config.warehouse.production);
    await client.connect();
    await client.query(
      'create table staging.locked as select n from generate_series(1, 3) as s (n); grant select on staging.locked to ouvrage_reader',
    );
    const slug = await workspace(mira, 'Waits');
    await draft(mira, slug, 'staging/locked.sql', () => 'create table staging.locked as select 1 as n');
    const counting = count(
      'select p.port_code from landing.port p, generate_series(1, 5000000) as s (n) where s.n % 7 = 100',
      { force: true },
    );
    await begun();
    await client.query(
      "set lock_timeout = '20s'; begin; lock table landing.port in access exclusive mode; commit; drop table staging.locked",
    );
    await client.end();
    const counted = await counting;
    expect(linesOf(counted, 'again').length).toBeGreaterThan(0);
    expect(linesOf(counted, 'end')).toHaveLength(1);
  });
});

/** Waits until there have been so many open transactions for some time. */
async function begun(n = 1): Promise<void> {
  for (let seen = 0; seen < 10;) {
    const [row] = await warehouse(
      `select count(distinct pid) as n from pg_locks where locktype = 'virtualxid' and pid <> pg_backend_pid()`,
    );
    seen = Number(row!['n']) >= n ? seen + 1 : 0;
  }
}

describe('an attacker', () => {
  test.each<[string, string]>([
    ['a second statement', 'select 1 as a; drop table core.dim_vessel'],
    ['writing inside a select', 'with d as (delete from core.dim_vessel returning 1) select * from d'],
    ['leaving the read-only transaction', "select set_config('transaction_read_only', 'off', true) as a"],
    ['another person’s session', 'select pg_terminate_backend(pid) as a from pg_catalog.pg_stat_activity'],
    ['locking out a swap', "select pg_advisory_lock(hashtext('ouvrage swap')) as a"],
    ['the passwords', 'select rolpassword from pg_catalog.pg_authid'],
  ])('gets nothing by %s', async (_, text) => {
    const before = await warehouse('select count(*) as n from core.dim_vessel');
    const counted = await count(text, { client: vera, force: true });
    const rows = await vera.send('post', `${PRODUCTION}/anatomy/rows`, {
      path: ADHOC,
      text,
      step: 'result',
      look: 'rows',
      limit: 5,
    });
    const plan = await vera.send('post', `${PRODUCTION}/plan`, { path: ADHOC, text, analyze: true });
    expect([rows.status, plan.status]).toEqual([422, 422]);
    expect(
      counted.status === 422 || linesOf(counted, 'failed').length > 0 || rowsOf(counted).at(-1) === 'result 1',
    ).toBe(true);
    expect(await warehouse('select count(*) as n from core.dim_vessel')).toEqual(before);
  });
  test('who is not signed in to a workspace that does not exist learns nothing', async () =>
    expect((await count('select 1 as one', { at: '/api/workspaces/nowhere' })).status).toBe(404));
  test('a query that cannot be read is told as a preview tells it', async () => {
    const wrong = await count('select from where');
    expect([wrong.status, (JSON.parse(wrong.text) as { code: string }).code]).toEqual([422, 'syntax']);
    const failing = await count('select 1 / (n - 1) as x from generate_series(1, 2) as s (n) where 1 / (n - 1) > 0');
    expect(linesOf(failing, 'failed')[0]!.error.message).toBe('division by zero');
  });
});

describe('a plan', () => {
  const plan = async (text: string, analyze = true) =>
    (await mira.send('post', `${PRODUCTION}/plan`, { path: ADHOC, text, analyze })).body as PlanAnswer;
  test('has times, rows and the step of each node', async () => {
    const { nodes, steps, executionTime, advice } = await plan(
      'select v.vessel_name, count(*) as n from core.fact_dues d join core.dim_vessel v on v.hull_no = d.hull_no group by 1',
    );
    expect(executionTime).toBeGreaterThan(0);
    expect(nodes.every((n) => n.ownTime !== undefined && n.step !== undefined)).toBe(true);
    expect(
      nodes
        .filter((n) => n.type === 'seq scan')
        .map((n) => n.step)
        .sort(),
    ).toEqual(['source core.dim_vessel', 'source core.fact_dues']);
    expect(steps.map((s) => s.id)).toContain('group');
    expect(advice).toEqual([]);
  });
  test('may be had without running the query', async () => {
    const { nodes, executionTime } = await plan(SLOW, false);
    expect([executionTime, nodes[0]!.rows]).toEqual([null, undefined]);
  });
  test('advises an index where a scan keeps few rows, and none where there is one', async () => {
    const slug = await workspace(mira, 'Slow');
    const definition = (index: string) =>
      `create table staging.many (n integer, code text) with (load = rebuild);\nselect n, 'C' || n as code from generate_series(1, 200000) as s (n);\n${index}`;
    const at = `/api/workspaces/${slug}`;
    const run = async () => {
      const { body } = await mira.send('post', `${at}/runs`, {
        tables: ['staging.many'],
        upstream: false,
        downstream: false,
      });
      expect((await mira.ended((body as { id: number }).id)).state).toBe('succeeded');
    };
    const text = "select n from staging.many where code = 'C77'";
    const ask = async () =>
      (await mira.send('post', `${at}/plan`, { path: ADHOC, text, analyze: true })).body as PlanAnswer;
    await draft(mira, slug, 'staging/many.sql', () => definition(''));
    await run();
    const before = await ask();
    expect(before.advice.map((a) => [a.table, a.statement])).toEqual([
      ['staging.many', 'create index on staging.many (code);'],
    ]);
    await draft(mira, slug, 'staging/many.sql', () => definition('create index on staging.many (code);'));
    await run();
    const after = await ask();
    expect(after.advice).toEqual([]);
    expect(after.nodes.map((n) => n.type)).not.toContain('seq scan');
  });
});
