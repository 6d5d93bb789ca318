import { spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';
import { parseArgs } from 'node:util';
import { gzipSync } from 'node:zlib';
import { freePort, isRoot, main, Plain, ROOT, run, say } from './lib/shell.mjs';

/**
 * `node scripts/fixture.mjs --at COMMIT --to FOLDER`: the data as that commit writes them, for tests of upgrades: dumps
 * of the cluster, a bundle of the project and the rows that tables hold. It has a table of every policy and key method,
 * remembered events, placeholders and facts, loaded several times, and a workspace with drafts.
 */
const { values } = parseArgs({ options: { at: { type: 'string' }, to: { type: 'string' } } });
if (!values.at || !values.to) throw new Error('--at COMMIT --to FOLDER');
const base = isRoot ? '/var/tmp' : os.tmpdir();

const csv = (...lines) => `${lines.join('\n')}\n`;

/** The project's definitions; their inputs are reference tables, so that each state is a commit. */
const DEFINITIONS = {
  'layers.sql':
    'create schema landing; create schema reference; create schema staging; create schema core; create schema mart;\n',
  'parameters.sql': "set param.least = '1';\n",
  'functions/shout.sql':
    'create function functions.shout(t text) returns text language sql immutable return upper(t);\n',
  'staging/member.sql':
    'select code, functions.shout(name) as name, amount::numeric(10,2) as amount from reference.member;\n',
  'core/merged.sql': `create table core.merged (merged_no bigint options (role 'surrogate key') primary key, code text not null unique, name text, amount numeric(10,2), gone boolean options (role 'deleted flag'), seen timestamptz options (role 'loaded at')) with (load = merge, business_key = 'code', missing_rows = flag, empty = allow);
comment on table core.merged is 'Members as they are.';
select code, name, amount from staging.member;
create index merged_by_name on core.merged (name);
grant select on core.merged to reporting;\n`,
  'core/hashed.sql': `create table core.hashed (hashed_no bigint options (role 'surrogate key') primary key, code text not null unique, amount numeric(10,2), mark text options (role 'row hash')) with (load = merge, business_key = 'code', key_method = hash);
select code, amount from staging.member;\n`,
  'core/versioned.sql': `create table core.versioned (version_no bigint options (role 'surrogate key') primary key, member_no bigint options (role 'durable key'), code text not null, name text options (on_change 'overwrite'), amount numeric(10,2), first_amount numeric(10,2) options (on_change 'keep'), was_amount numeric(10,2) options (on_change 'previous', previous_of 'amount'),
  valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'), is_current boolean options (role 'current flag'), n integer options (role 'version number')) with (load = history, business_key = 'code', missing_rows = close);
select code, name, amount, amount as first_amount from staging.member;\n`,
  'core/cut.sql': `create table core.cut (cut_no bigint options (role 'surrogate key') primary key, code text not null, price numeric(10,2), valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'code', effective_from = 'at', order_within = 'seq');
select code, at::timestamptz as at, seq::integer as seq, price::numeric(10,2) as price from reference.price;\n`,
  'core/appended.sql': `create table core.appended (code text not null, at timestamptz not null, price numeric(10,2)) with (load = append, watermark = 'at', business_key = 'code, at', look_back = '3 days');
select code, at::timestamptz as at, price::numeric(10,2) as price from reference.price;\n`,
  'core/copied.sql': `create table core.copied (as_of date options (role 'as of') not null, code text not null, amount numeric(10,2), is_newest boolean options (role 'current flag'), primary key (as_of, code)) with (load = dated, keep_copies = 5);
select max(p.at)::timestamptz::date as as_of, m.code, m.amount from reference.price p cross join staging.member m group by m.code, m.amount;\n`,
  'core/rebuilt.sql': `create table core.rebuilt (rebuilt_no bigint options (role 'surrogate key') primary key, code text not null unique) with (load = rebuild, business_key = 'code');
select code from staging.member;\n`,
  'core/fact.sql': `create table core.fact (visit_no integer primary key, version_no bigint options (looked_up_by 'code', at 'visited') not null references core.versioned (version_no), merged_no bigint options (looked_up_by 'code', missing 'infer') not null references core.merged (merged_no), visited timestamptz not null) with (load = merge, business_key = 'visit_no');
select visit_no::integer as visit_no, code, visited::timestamptz as visited from reference.visit;\n`,
  'mart/summary.sql':
    "create table mart.summary as select code, sum(price) as price from core.appended group by code having count(*) >= current_setting('param.least')::integer;\n",
  'mart/seen.sql':
    'select m.code, m.name, v.amount from core.merged m join core.versioned v on v.code = m.code and v.is_current;\n',
  'checks/positive.sql':
    "create view checks.positive with (about = 'core.appended') as select * from core.appended where price < 0;\n",
};

const STATES = [
  {
    'reference/member.csv': csv('code,name,amount', 'a,one,1.00', 'b,two,2.50', 'c,three,3'),
    'reference/price.csv': csv('code,at,seq,price', 'a,2026-01-01,1,10', 'a,2026-01-05,1,12', 'b,2026-01-02,1,7'),
    'reference/visit.csv': csv('visit_no,code,visited', '1,a,2026-11-01', '2,b,2026-11-02', '3,zz,2026-11-03'),
  },
  {
    'reference/member.csv': csv('code,name,amount', 'a,one,1.50', 'b,TWO,2.50', 'd,four,4'),
    'reference/price.csv': csv('code,at,seq,price', 'a,2026-01-03,1,11', 'a,2026-01-05,2,13', 'c,2026-01-06,1,1'),
    'reference/visit.csv': csv('visit_no,code,visited', '3,zz,2026-11-03', '4,d,2026-12-03'),
  },
  {
    'reference/member.csv': csv('code,name,amount', 'a,one,1.75', 'c,three,3', 'd,four,4.25', 'zz,late,9'),
    'reference/price.csv': csv('code,at,seq,price', 'b,2026-01-01,1,6', 'd,2026-01-09,1,2'),
    'reference/visit.csv': csv('visit_no,code,visited', '5,a,2026-12-05'),
  },
];

const ROWS = `select table_schema as schema, table_name as name from information_schema.tables where table_type in ('BASE TABLE', 'VIEW') and table_schema in ('reference', 'staging', 'core', 'mart') order by 1, 2`;

await main(async () => {
  const folder = mkdtempSync(path.join(base, 'ouvrage-fixture-'));
  const data = mkdtempSync(path.join(base, 'ouvrage-fixture-data-'));
  const to = path.resolve(ROOT, values.to);
  await run('git', ['clone', '--quiet', '--no-checkout', ROOT, folder]);
  await run('git', ['checkout', '--quiet', values.at], { cwd: folder });
  const port = await freePort(4900);
  const app = spawn(process.execPath, ['scripts/start.mjs', '--data', data, '--port', String(port), '--no-demo'], {
    cwd: folder,
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  try {
    await new Promise((resolve, reject) => {
      app.stdout.on('data', (d) => /Ouvrage is ready/.test(d) && resolve());
      app.once('exit', (code) => reject(new Plain(`the application ended with ${code}`)));
    });
    await play(`http://127.0.0.1:${port}`, data);
    mkdirSync(to, { recursive: true });
    await keep(data, to, values.at);
  } finally {
    app.kill('SIGTERM');
    await new Promise((resolve) => app.once('exit', resolve));
    for (const f of [folder, data]) rmSync(f, { recursive: true, force: true });
  }
  say(`The fixture is in ${to}.`);
});

/** Releases each state, and leaves a workspace with drafts behind. */
async function play(address, data) {
  const code = readFileSync(path.join(data, 'setup-code.txt'), 'utf8').trim();
  const signedIn = await fetch(`${address}/api/setup`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ code, name: 'admin', displayName: 'Administrator', password: 'a fixture of its own' }),
  });
  const headers = {
    'content-type': 'application/json',
    cookie: signedIn.headers.get('set-cookie').split(';')[0],
    'x-csrf-token': (await signedIn.json()).csrf,
  };
  const ask = async (method, where, body) => {
    const answer = await fetch(`${address}/api/${where}`, {
      method,
      headers,
      ...(body ? { body: JSON.stringify(body) } : {}),
    });
    const text = await answer.text();
    if (!answer.ok) throw new Plain(`${method} ${where}: ${answer.status} ${text}`);
    return text ? JSON.parse(text) : undefined;
  };
  const ended = async ({ id }) => {
    for (;;) {
      const found = await ask('GET', `runs/${id}`);
      if (found.state === 'succeeded') return;
      if (!['queued', 'running'].includes(found.state))
        throw new Plain(
          `run ${id}: ${found.state} ${found.error} ${JSON.stringify(found.steps.filter((s) => s.error))}`,
        );
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  };
  for (const [n, state] of STATES.entries()) {
    const { slug } = await ask('POST', 'workspaces', { name: `State ${n}` });
    for (const [file, text] of Object.entries(n === 0 ? { ...DEFINITIONS, ...state } : state))
      await ask('PUT', `workspaces/${slug}/drafts`, { path: file, text, version: 0 });
    await ask('POST', `workspaces/${slug}/commits`, { message: `State ${n}` });
    await ended(await ask('POST', `workspaces/${slug}/release`, { message: `State ${n}` }));
    await ended(await ask('POST', 'workspaces/production/runs', { tables: [], upstream: false, downstream: false }));
  }
  const { slug } = await ask('POST', 'workspaces', { name: 'Work' });
  await ask('PUT', `workspaces/${slug}/drafts`, {
    path: 'core/merged.sql',
    text: `${DEFINITIONS['core/merged.sql']}-- drafted\n`,
    version: 0,
  });
  await ask('PUT', `workspaces/${slug}/drafts`, {
    path: 'mart/own.sql',
    text: 'select code from core.merged;\n',
    version: 0,
  });
  await ended(
    await ask('POST', `workspaces/${slug}/runs`, {
      tables: ['mart.own', 'core.versioned'],
      upstream: true,
      downstream: false,
    }),
  );
}

/** Dumps, the bundle, the configuration and what the tables hold. */
async function keep(data, to, commit) {
  const config = JSON.parse(readFileSync(path.join(data, 'config.json'), 'utf8'));
  const connection = ['-h', '127.0.0.1', '-p', String(config.postgresPort), '-U', 'postgres'];
  const env = { ...process.env, PGPASSWORD: config.passwords.postgres };
  const parts = [await run('pg_dumpall', [...connection, '--roles-only'], { env })];
  for (const database of ['ouvrage', 'warehouse', 'port_ops'])
    parts.push(await run('pg_dump', [...connection, '-C', database], { env }));
  writeFileSync(path.join(to, 'cluster.sql.gz'), gzipSync(parts.join('\n'), { level: 9 }));
  await run('git', [
    '--git-dir',
    path.join(data, 'project.git'),
    'bundle',
    'create',
    '--quiet',
    path.join(to, 'project.bundle'),
    '--all',
  ]);
  const { clusterFolder: _, postgresPort: __, ...kept } = config;
  writeFileSync(path.join(to, 'config.json'), `${JSON.stringify(kept, undefined, 2)}\n`);
  const psql = (sql) => run('psql', ['-X', '-q', '-A', '-t', ...connection, '-d', 'warehouse', '-c', sql], { env });
  const tables = (await psql(ROWS))
    .trim()
    .split('\n')
    .map((l) => l.split('|'));
  const held = {};
  for (const [schema, name] of tables) {
    const rows = (await psql(`select t::text from "${schema}"."${name}" as t order by 1`)).trim();
    held[`${schema}.${name}`] = {
      rows: rows === '' ? 0 : rows.split('\n').length,
      digest: createHash('sha256').update(rows).digest('hex'),
    };
  }
  writeFileSync(path.join(to, 'expected.json'), `${JSON.stringify({ commit, tables: held }, undefined, 2)}\n`);
}
