import { afterAll, beforeAll, expect, test } from '@jest/globals';
import {
  draft,
  runTables,
  startApplication,
  warehouse,
  workspace,
  type Client,
  type TestApplication,
} from '../testing.js';
import type { RunView } from '../testing.js';

/** Loads that keep state, as runs and releases carry them out on the demo. */
let application: TestApplication;
let mira: Client;

beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
});
afterAll(() => application.close());

const step = (run: RunView, table: string) => run.steps.find((s) => s.table === table)!;
const schemaOf = (slug: string) => `w_${slug.replaceAll('-', '_')}_core`;

test('a workspace goes on from a copy of production’s versions and numbers; the same rows again write nothing', async () => {
  const slug = await workspace(mira, 'Goes on');
  await draft(mira, slug, 'core/dim_vessel.sql', (t) =>
    t
      .replace(
        '  built_on      date  ',
        "  hull_class    text          options (on_change 'overwrite'),\n  built_on      date  ",
      )
      .replace('       v.built_on\nfrom', "       'steel' as hull_class,\n       v.built_on\nfrom"),
  );
  const first = await runTables(mira, slug, ['core.dim_vessel']);
  expect(step(first, 'core.dim_vessel')).toMatchObject({ state: 'done', error: null });
  const core = schemaOf(slug);
  const [compared] = await warehouse<Record<string, string>>(
    `select count(*) as versions, count(*) filter (where p.vessel_key = w.vessel_key) as same_numbers, count(*) filter (where w.hull_class is null and w.hull_no in (select hull_no from staging.vessel where scrapped_on is null)) as empty
     from core.dim_vessel p full join ${core}.dim_vessel w on w.hull_no = p.hull_no and w.valid_from = p.valid_from`,
    'workspace',
  );
  expect(compared!['same_numbers']).toBe(compared!['versions']);
  expect(compared!['empty']).toBe('0');
  const marks = () =>
    warehouse(
      `select md5(string_agg(xmin::text || ctid::text, ',' order by ctid)) as mark from ${core}.dim_vessel`,
      'workspace',
    );
  const before = await marks();
  const again = await runTables(mira, slug, ['core.dim_vessel'], false);
  expect(step(again, 'core.dim_vessel')).toMatchObject({
    state: 'done',
    counts: { 'new versions': 0, closed: 0, overwritten: 0, unchanged: expect.any(Number) },
  });
  expect(
    (step(again, 'core.dim_vessel') as unknown as { counts: Record<string, number> }).counts['unchanged'],
  ).toBeGreaterThan(100);
  expect(await marks()).toEqual(before);
});

test('a repeated key stops a merge before anything changes, and shows the rows', async () => {
  const slug = await workspace(mira, 'Stops');
  await runTables(mira, slug, ['core.fact_dues']);
  await draft(mira, slug, 'core/fact_dues.sql', (t) =>
    t.replace(
      'from staging.dues_invoice i\n',
      'from (select * from staging.dues_invoice union all (select * from staging.dues_invoice order by invoice_no limit 2)) i\n',
    ),
  );
  const run = await runTables(mira, slug, ['core.fact_dues']);
  const failed = step(run, 'core.fact_dues');
  expect(failed).toMatchObject({
    state: 'failed',
    error: {
      message: 'the query returns more than one row for a invoice_no',
      hint: expect.stringContaining('The table is unchanged.'),
    },
  });
  const { rows } = failed.error as unknown as { rows: { columns: string[]; rows: unknown[] } };
  expect(rows.columns).toContain('invoice_no');
  const { checks } = (await mira.get(`/api/workspaces/${slug}/state`)).body as {
    checks: { id: string; verdict: string; atFault: string }[];
  };
  expect(checks).toContainEqual(
    expect.objectContaining({ id: 'core.fact_dues/one_row_a_key', verdict: 'broken', atFault: '4' }),
  );
  expect(rows.rows).toHaveLength(4);
});

test('rows that would mean something else are not gone on from', async () => {
  const slug = await workspace(mira, 'Other key');
  await draft(mira, slug, 'core/fact_dues.sql', (t) =>
    t.replace("business_key = 'invoice_no'", "business_key = 'call_no'"),
  );
  const run = await runTables(mira, slug, ['core.fact_dues']);
  expect(step(run, 'core.fact_dues')).toMatchObject({
    state: 'failed',
    error: {
      message: 'core.fact_dues cannot go on from production’s rows: its business_key was invoice_no and is call_no',
    },
  });
});

test('a release migrates a history and keeps its versions and numbers', async () => {
  const versions = () =>
    warehouse<Record<string, string>>(
      'select vessel_key, hull_no, valid_from, valid_to, flag_code from core.dim_vessel order by 1',
    );
  const before = await versions();
  const slug = await workspace(mira, 'More of vessels');
  const original = (await mira.get(`/api/workspaces/${slug}/files`)).body as { files: Record<string, string> };
  const ask = (message: string, answers: object = {}) =>
    mira.send('post', `/api/workspaces/${slug}/release`, { message, ...answers });
  const release = async (message: string, answers: object = {}) => {
    await mira.send('post', `/api/workspaces/${slug}/commits`, { message });
    const run = await mira.ended(((await ask(message, answers)).body as { id: number }).id);
    expect(run).toMatchObject({ state: 'succeeded' });
    return run;
  };
  await draft(mira, slug, 'core/dim_vessel.sql', (t) =>
    t
      .replace(
        '  built_on      date  ',
        "  tons_known    boolean       options (on_change 'overwrite'),\n  built_on      date  ",
      )
      .replace('       v.built_on\nfrom', '       v.gross_tonnage is not null as tons_known,\n       v.built_on\nfrom'),
  );
  await release('Whether the tonnage is known');
  expect(await versions()).toEqual(before);
  expect(
    await warehouse(
      'select count(*) as n from core.dim_vessel where tons_known is null and is_current and hull_no in (select hull_no from staging.vessel where scrapped_on is null)',
    ),
  ).toEqual([{ n: '0' }]);
  // A changed query corrects open versions, where the release says so, instead of making new ones.
  await draft(mira, slug, 'core/dim_vessel.sql', (t) =>
    t.replace('v.gross_tonnage,', 'v.gross_tonnage + 1 as gross_tonnage,'),
  );
  const compared = (await mira.get(`/api/workspaces/${slug}/comparison`)).body as {
    migrations: unknown[];
    losses: string[];
  };
  expect(compared.migrations).toEqual([
    {
      table: 'core.dim_vessel',
      policy: 'history',
      choices: ['go on', 'correct', 'start over'],
      statements: [],
      holders: [{ table: 'core.fact_dues', looksUpAgain: true }],
    },
  ]);
  const corrected = await release('Tonnage with its ton', { treatments: { 'core.dim_vessel': 'correct' } });
  expect(step(corrected, 'core.dim_vessel')).toMatchObject({
    counts: { 'new versions': 0, closed: 0, overwritten: expect.any(Number) },
  });
  expect(await versions()).toEqual(before);
  // What is dropped for good needs consent; what cannot be done is refused.
  await draft(mira, slug, 'core/dim_vessel.sql', () => original.files['core/dim_vessel.sql']!);
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'As it was' });
  expect((await ask('As it was')).body).toMatchObject({
    code: 'needs-consent',
    losses: [{ of: 'core.dim_vessel.tons_known' }],
  });
  const consents = ['core.dim_vessel.tons_known'];
  expect((await ask('As it was', { consents, treatments: { 'core.dim_vessel': 'forget it' } })).body).toMatchObject({
    code: 'bad-treatment',
  });
  await mira.ended(
    ((await ask('As it was', { consents, treatments: { 'core.dim_vessel': 'correct' } })).body as { id: number }).id,
  );
  expect(await versions()).toEqual(before);
  expect(
    await warehouse(
      "select count(*) as n from information_schema.columns where table_schema = 'core' and table_name = 'dim_vessel' and column_name = 'tons_known'",
    ),
  ).toEqual([{ n: '0' }]);
});

test('other keys start a table over, with numbers of their own, and only when someone says so', async () => {
  const slug = await workspace(mira, 'Other numbers');
  await runTables(mira, slug, ['core.dim_port']);
  await draft(mira, slug, 'core/dim_port.sql', (t) =>
    t.replace("business_key = 'port_code'", "business_key = 'port_name'"),
  );
  const over = { tables: ['core.dim_port'], upstream: false, downstream: false, startOver: ['core.dim_port'] };
  const run = await mira.ended(
    ((await mira.send('post', `/api/workspaces/${slug}/runs`, over)).body as { id: number }).id,
  );
  expect(step(run, 'core.dim_port')).toMatchObject({ state: 'done', error: null });
  expect(
    await warehouse(`select count(*) as n from ${schemaOf(slug)}."dim_port~keys" where port_name is null`, 'workspace'),
  ).toEqual([{ n: '0' }]);
  const slugOfOwners = await workspace(mira, 'Owners in sequence');
  await draft(mira, slugOfOwners, 'core/dim_owner.sql', (t) => t.replace('key_method = hash, ', ''));
  await mira.send('post', `/api/workspaces/${slugOfOwners}/commits`, { message: 'Owners in sequence' });
  const ask = (treatments: object) =>
    mira.send('post', `/api/workspaces/${slugOfOwners}/release`, { message: 'Owners in sequence', treatments });
  expect((await ask({})).body).toMatchObject({
    code: 'cannot-go-on',
    title: 'core.dim_owner cannot go on from its rows: its key_method was hash and is nothing',
  });
  expect(await mira.ended(((await ask({ 'core.dim_owner': 'start over' })).body as { id: number }).id)).toMatchObject({
    state: 'succeeded',
  });
  expect(await warehouse('select max(owner_key) = count(*) as in_sequence from core.dim_owner')).toEqual([
    { in_sequence: true },
  ]);
  await draft(mira, slugOfOwners, 'core/dim_owner.sql', (t) =>
    t.replace("business_key = 'owner_id', ", "business_key = 'owner_id', key_method = hash, "),
  );
  await mira.send('post', `/api/workspaces/${slugOfOwners}/commits`, { message: 'Owners by hash' });
  expect(await mira.ended(((await ask({ 'core.dim_owner': 'start over' })).body as { id: number }).id)).toMatchObject({
    state: 'succeeded',
  });
});

test('starting over leaves versions behind, and gives new ones numbers above all that were given; what keeps nothing cannot be started over', async () => {
  const slug = await workspace(mira, 'Start over');
  const over = (tables: string[], startOver: string[]) =>
    mira.send('post', `/api/workspaces/${slug}/runs`, { tables, upstream: false, downstream: false, startOver });
  const [before] = await warehouse<{ n: string }>(
    'select count(distinct hull_no) as n from staging.vessel where scrapped_on is null',
  );
  const asked = await over(['core.dim_vessel'], ['core.dim_vessel']);
  expect(step(await mira.ended((asked.body as { id: number }).id), 'core.dim_vessel')).toMatchObject({
    state: 'done',
    counts: { closed: 0, 'new versions': Number(before!.n) },
  });
  const numbers = () =>
    warehouse(`select hull_no, vessel_key from ${schemaOf(slug)}.dim_vessel order by 1`, 'workspace');
  const first = await numbers();
  await mira.ended(((await over(['core.dim_vessel'], ['core.dim_vessel'])).body as { id: number }).id);
  const again = await numbers();
  expect(again.map((r) => r['hull_no'])).toEqual(first.map((r) => r['hull_no']));
  const given = (rows: readonly Record<string, unknown>[]) =>
    rows.map((r) => Number(r['vessel_key'])).filter((n) => n !== 0);
  expect(Math.min(...given(again))).toBeGreaterThan(Math.max(...given(first)));
  expect((await over(['core.fact_call'], ['core.fact_call'])).body).toMatchObject({ code: 'no-start-over' });
  expect((await over(['core.dim_port'], ['core.dim_vessel'])).body).toMatchObject({ code: 'no-start-over' });
});

test('a new column of the query is added where drift says so; a statement of before runs in the load', async () => {
  const slug = await workspace(mira, 'Drifting');
  const original = ((await mira.get(`/api/workspaces/${slug}/files`)).body as { files: Record<string, string> }).files[
    'core/fact_dues.sql'
  ]!;
  const withOptions = original.replace(
    "business_key = 'invoice_no'",
    "business_key = 'invoice_no', drift = add, before = 'delete from core.fact_dues where amount > 1e9; analyze core.fact_dues'",
  );
  const drifting = withOptions.replace('select i.invoice_no,', "select i.invoice_no, 'of ' || i.invoice_no as said,");
  expect(drifting).not.toBe(withOptions);
  await draft(mira, slug, 'core/fact_dues.sql', () => drifting);
  const first = step(await runTables(mira, slug, ['core.fact_dues']), 'core.fact_dues');
  expect(first).toMatchObject({ state: 'done', error: null });
  const facts = `${schemaOf(slug)}.fact_dues`;
  const said = () =>
    warehouse<{ rows: string; said: string }>(
      `select count(*) as rows, count(*) filter (where said = 'of ' || invoice_no) as said from ${facts}`,
      'workspace',
    );
  const [after] = await said();
  expect(after!.said).toBe(after!.rows);
  expect(step(await runTables(mira, slug, ['core.fact_dues'], false), 'core.fact_dues')).toMatchObject({
    state: 'done',
    counts: { updated: 0, inserted: 0 },
  });
  await draft(mira, slug, 'core/fact_dues.sql', () =>
    drifting.replace("'of ' || i.invoice_no as said", "'of ' || i.invoice_no as said, 1 as more"),
  );
  expect(step(await runTables(mira, slug, ['core.fact_dues'], false), 'core.fact_dues')).toMatchObject({
    state: 'done',
  });
  expect(await warehouse(`select count(*) as n from ${facts} where more = 1`, 'workspace')).toEqual([
    { n: after!.rows },
  ]);
});

test('a table that is rewritten keeps its constraints, indexes, readers and rows', async () => {
  const slug = await workspace(mira, 'Written anew');
  await draft(mira, slug, 'core/fact_dues.sql', (t) =>
    t.replace("business_key = 'invoice_no'", "business_key = 'invoice_no', shape = rewrite"),
  );
  await runTables(mira, slug, ['mart.vessel_dues']);
  const facts = `${schemaOf(slug)}.fact_dues`;
  const amounts = () => warehouse(`select invoice_no, amount, vessel_key from ${facts} order by 1`, 'workspace');
  const [before, unchanged] = [await amounts(), await runTables(mira, slug, ['core.fact_dues'], false)];
  expect(step(unchanged, 'core.fact_dues')).toMatchObject({
    note: expect.stringMatching(
      /^changed in place: 0 of about \d+ rows change \(shape = rewrite\); its time is the demo clock’s$/,
    ),
  });
  await warehouse('update landing.dues_invoice set amount = amount * 2 where invoice_id % 3 = 0');
  const rewritten = await runTables(mira, slug, ['core.fact_dues'], false);
  const changed = step(rewritten, 'core.fact_dues');
  expect(changed).toMatchObject({
    state: 'done',
    error: null,
    note: expect.stringMatching(/^all rows rewritten: \d+ of about \d+ rows change/),
  });
  const { kinds, results } = (await mira.get(`/api/runs/${rewritten.id}/steps/${changed.id}`)).body as {
    kinds: Record<string, { columns: string[]; rows: string[][] }>;
    results: { id: string; verdict: string }[];
  };
  expect(kinds['updated']!.columns).toEqual(expect.arrayContaining(['invoice_no', 'amount']));
  expect(kinds['updated']!.columns.filter((c) => c.endsWith('$'))).toEqual([]);
  expect(kinds['updated']!.rows.length).toBeGreaterThan(0);
  expect(kinds['inserted']).toBeUndefined();
  expect(changed).toMatchObject({
    counts: {
      inserted: 0,
      unchanged: before.length - Number((changed as unknown as { counts: Record<string, number> }).counts['updated']),
    },
  });
  for (const name of ['keys_are_known', 'one_row_a_key', 'look_ups_keep_rows'])
    expect(results).toContainEqual(expect.objectContaining({ id: `core.fact_dues/${name}`, verdict: 'holds' }));
  expect((await amounts()).length).toBe(before.length);
  expect(await amounts()).not.toEqual(before);
  expect(
    await warehouse(
      `select count(*) as n from pg_constraint where conrelid = '${facts}'::regclass and contype = 'p'`,
      'workspace',
    ),
  ).toEqual([{ n: '1' }]);
  await warehouse('update landing.dues_invoice set amount = amount / 2 where invoice_id % 3 = 0');
  await runTables(mira, slug, ['core.fact_dues'], false);
  expect(await amounts()).toEqual(before);
});

test('a table that is rewritten from plain rows proves its key by adding it', async () => {
  const slug = await workspace(mira, 'Proven');
  await draft(
    mira,
    slug,
    'core/sum.sql',
    () => `create table core.sum (invoice_id bigint primary key, amount numeric(12,2)) with (load = merge, business_key = 'invoice_id', shape = rewrite);
select case call_no when 'no key' then null when 'one key' then 1 else invoice_id end as invoice_id, amount::numeric as amount from landing.dues_invoice;`,
  );
  const load = async () => {
    const run = await runTables(mira, slug, ['core.sum'], false);
    const { id, ...loaded } = step(run, 'core.sum');
    return {
      ...loaded,
      ...((await mira.get(`/api/runs/${run.id}/steps/${id}`)).body as { results: { id: string; verdict: string }[] }),
    };
  };
  const rows = () => warehouse(`select invoice_id, amount from ${schemaOf(slug)}.sum order by 1`, 'workspace');
  expect(await load()).toMatchObject({ state: 'done', error: null });
  const before = await rows();
  await warehouse('update landing.dues_invoice set amount = amount * 2');
  const rewritten = await load();
  expect(rewritten).toMatchObject({
    state: 'done',
    counts: { inserted: 0, replaced: before.length },
    note: expect.stringMatching(/^all rows rewritten/),
  });
  for (const name of ['keys_are_known', 'one_row_a_key', 'sum_pkey'])
    expect(rewritten.results).toContainEqual(expect.objectContaining({ id: `core.sum/${name}`, verdict: 'holds' }));
  const after = await rows();
  expect(after).toEqual(before.map((r) => ({ ...r, amount: (Number(r['amount']) * 2).toFixed(2) })));
  const keyed = `select count(*) as n from pg_constraint where conrelid = '${schemaOf(slug)}.sum'::regclass and conname = 'sum_pkey'`;
  expect(await warehouse(keyed, 'workspace')).toEqual([{ n: '1' }]);
  await warehouse(
    'update landing.dues_invoice set amount = amount / 2; create table landing.calls_before as select invoice_id, call_no from landing.dues_invoice',
  );
  for (const [call, check, message] of [
    ['one key', 'one_row_a_key', 'the query returns more than one row for a invoice_id'],
    ['no key', 'keys_are_known', 'the query returns rows whose invoice_id is null'],
  ] as const) {
    await warehouse(`update landing.dues_invoice set call_no = '${call}' where invoice_id between 10 and 12`);
    const stopped = await load();
    expect(stopped).toMatchObject({ state: 'failed', error: { message, rows: { columns: ['invoice_id', 'amount'] } } });
    expect(stopped.results).toContainEqual(expect.objectContaining({ id: `core.sum/${check}`, verdict: 'broken' }));
    expect(await rows()).toEqual(after);
  }
  await warehouse(
    'update landing.dues_invoice as i set call_no = b.call_no from landing.calls_before as b where b.invoice_id = i.invoice_id; drop table landing.calls_before',
  );
});

test.each<[string, string, string, Record<string, string>]>([
  [
    'a history: numbers of vessels and of versions, hashes of rows',
    'core.dim_vessel',
    `hull_no |vessel_no bigint options (role 'durable key') not null,
  version_no integer options (role 'version number') not null,
  said uuid options (role 'row hash') not null,`,
    {
      'each vessel has one number': 'select hull_no from T group by hull_no having count(distinct vessel_no) <> 1',
      'each number is of one vessel':
        'select vessel_no from T group by vessel_no having count(distinct coalesce(hull_no, $$$$)) <> 1',
      'versions are counted from the first':
        'select from (select version_no, row_number() over (partition by hull_no order by valid_from) as n from T) v where version_no <> n',
      'the unknown one has number 0': 'select from T where (vessel_key = 0) <> (vessel_no = 0)',
      'equal rows alone have equal hashes':
        'select said from T group by said having count(distinct (vessel_name, flag_code, built_on)) > 1',
    },
  ],
  [
    'a merge: numbers of invoices',
    'core.fact_dues',
    "invoice_no |dues_key bigint options (role 'surrogate key') not null,",
    { 'each invoice has a number of its own': 'select dues_key from T group by dues_key having count(*) > 1' },
  ],
])('columns that a load fills are given to the rows of %s', async (_, table, columns, faults) => {
  const slug = await workspace(mira, `Late ${table}`);
  const [before, more] = columns.split('|') as [string, string];
  await draft(mira, slug, `${table.replace('.', '/')}.sql`, (t) => t.replace(`  ${before}`, `  ${more}\n  ${before}`));
  const run = step(await runTables(mira, slug, [table]), table) as unknown as {
    state: string;
    error: unknown;
    counts: Record<string, number>;
  };
  expect(run).toMatchObject({ state: 'done', error: null });
  // Nothing in them changes by that.
  expect(run.counts['new versions'] ?? run.counts['updated']).toBe(0);
  const place = `${schemaOf(slug)}.${table.split('.')[1]!}`;
  for (const [what, fault] of Object.entries(faults))
    expect([what, await warehouse(fault.replaceAll('T', place), 'workspace')]).toEqual([what, []]);
  expect((await warehouse(`select from ${place}`, 'workspace')).length).toBe(
    (await warehouse(`select from ${table}`)).length,
  );
});

test('views of a workspace over production’s tables hold up no release: they are made again, or are not built any more', async () => {
  const reader = await workspace(mira, 'Reads owners');
  await draft(
    mira,
    reader,
    'mart/owners_by_flag.sql',
    () => 'select flag_code, count(*) as owners from core.dim_owner group by flag_code',
  );
  await runTables(mira, reader, ['mart.owners_by_flag']);
  const view = `w_${reader.replaceAll('-', '_')}_mart.owners_by_flag`;
  const asked = () => warehouse<{ owners: string }>(`select sum(owners) as owners from ${view}`, 'workspace');
  const where = async () =>
    (
      (await mira.get(`/api/workspaces/${reader}/state`)).body as { tables: { table: string; where: string }[] }
    ).tables.find((t) => t.table === 'mart.owners_by_flag')?.where ?? 'nowhere';
  const before = await asked();
  expect(await where()).toBe('here');
  const changer = await workspace(mira, 'Changes owners');
  const { files } = (await mira.get('/api/workspaces/production/files')).body as { files: Record<string, string> };
  const released = files['core/dim_owner.sql']!;
  const release = async (message: string, change: (text: string) => string, consents: string[]) => {
    await draft(mira, changer, 'core/dim_owner.sql', change);
    await mira.send('post', `/api/workspaces/${changer}/commits`, { message });
    const { id } = (await mira.send('post', `/api/workspaces/${changer}/release`, { message, consents })).body as {
      id: number;
    };
    return mira.ended(id);
  };
  const more = await release(
    'A column more',
    (t) =>
      t
        .replace('  owner_name ', '  mark text,\n  owner_name ')
        .replace('trim(owner_name) as owner_name', 'md5(owner_name) as mark, trim(owner_name) as owner_name'),
    [],
  );
  expect(more).toMatchObject({ state: 'succeeded', error: null });
  expect(await asked()).toEqual(before);
  expect(await where()).toBe('here');
  expect(await warehouse(`select viewowner from pg_views where schemaname || '.' || viewname = '${view}'`)).toEqual([
    { viewowner: 'ouvrage_workspace' },
  ]);
  const less = await release(
    'A column less',
    (t) => t.replace(/  flag_code [^\n]*\n/, '').replace(/owner_name, flag_code/, 'owner_name'),
    ['core.dim_owner.flag_code'],
  );
  expect(less).toMatchObject({ state: 'succeeded', error: null });
  expect(await warehouse(`select to_regclass('${view}') as there`)).toEqual([{ there: null }]);
  expect(await where()).toBe('nowhere');
  expect(step(await runTables(mira, reader, ['mart.owners_by_flag']), 'mart.owners_by_flag')).toMatchObject({
    state: 'done',
  });
  expect(await asked()).toEqual(before);
  // Other tests read the table as the demo has it.
  const again = await release('As before', () => released, ['core.dim_owner.mark']);
  expect(again).toMatchObject({ state: 'succeeded', error: null });
});

test('a value that does not fit is shown with its rows: of the query, or of its inputs where the query itself fails', async () => {
  const slug = await workspace(mira, 'Misfits');
  const error = async (change: (text: string) => string, table = 'core/dim_port.sql') => {
    await draft(mira, slug, table, change);
    const failed = step(await runTables(mira, slug, ['core.dim_port']), 'core.dim_port');
    expect(failed.state).toBe('failed');
    return failed.error as unknown as {
      message: string;
      detail: string;
      rows: { columns: string[]; rows: string[][] };
    };
  };
  const ofContract = await error((t) =>
    t.replace('port_name text   options', 'port_name numeric(4,1) options').replace("unknown 'unknown'", "unknown '0'"),
  );
  expect(ofContract.message).toContain('invalid input syntax for type numeric');
  expect(ofContract.rows.columns.slice(0, 3)).toEqual(['does_not_fit', 'port_code', 'port_name']);
  expect(ofContract.rows.rows[0]![0]).toBe('port_name: no numeric(4,1)');
  await draft(mira, slug, 'core/dim_port.sql', (t) =>
    t.replace('port_name numeric(4,1) options', 'port_name text   options').replace("unknown '0'", "unknown 'unknown'"),
  );
  const ofInput = await error((t) =>
    t.replace('select port_code, port_name,', 'select port_code, port_name::integer::text as port_name,'),
  );
  expect(ofInput).toMatchObject({
    message: expect.stringContaining('invalid input syntax for type integer'),
    detail: expect.stringMatching(/is in these rows of landing.port:$/),
  });
  expect(ofInput.rows.rows).toHaveLength(1);
  // A release finds them among what it has built itself, and leaves production as it was.
  const ports = () => warehouse('select * from core.dim_port order by 1');
  const before = await ports();
  await mira.send('post', `/api/workspaces/${slug}/commits`, { message: 'Ports by number' });
  const { id } = (await mira.send('post', `/api/workspaces/${slug}/release`, { message: 'Ports by number' })).body as {
    id: number;
  };
  const release = await mira.ended(id);
  expect(release.state).toBe('failed');
  expect(step(release, 'core.dim_port')).toMatchObject({ state: 'failed', error: { ...ofInput, rows: ofInput.rows } });
  expect(await ports()).toEqual(before);
});
