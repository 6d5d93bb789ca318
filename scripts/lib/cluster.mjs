import { spawnSync } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { alive, freePort, isRoot, Plain, portFree, run, sleep } from './shell.mjs';
import { postgresBinaries } from './packages.mjs';

/** Under root everything of PostgreSQL runs as user postgres. */
const asPostgres = (program, args) => (isRoot ? ['runuser', ['-u', 'postgres', '--', program, ...args]] : [program, args]);
const ENV = { PATH: process.env.PATH, LC_ALL: 'C.UTF-8', HOME: '/tmp' };

/** `.data/config.json`: passwords, keys, ports. Readable by its owner only. */
export function readConfig(data) {
  const file = path.join(data, 'config.json');
  return existsSync(file) ? JSON.parse(readFileSync(file, 'utf8')) : undefined;
}

export function writeConfig(data, config) {
  const file = path.join(data, 'config.json');
  writeFileSync(file, JSON.stringify(config, undefined, 2) + '\n', { mode: 0o600 });
  chmodSync(file, 0o600);
}

const password = () => randomBytes(18).toString('base64url');

/** A new configuration: random secrets, ports still open. */
function newConfig(data) {
  return {
    clusterFolder: clusterFolder(data),
    postgresPort: 0,
    key: randomBytes(32).toString('base64'),
    passwords: Object.fromEntries(['postgres', 'application', 'production', 'workspace', 'reader', 'harbour'].map((role) => [role, password()])),
  };
}

/** The data folder, or, where user postgres cannot reach it, a folder of its own under /var/lib. */
function clusterFolder(data) {
  const inside = path.join(data, 'postgres');
  if (!isRoot) return inside;
  const [program, args] = asPostgres('test', ['-x', data]);
  if (spawnSync(program, args, { cwd: '/', stdio: 'ignore' }).status === 0) return inside;
  return path.join('/var/lib/ouvrage', createHash('sha256').update(data).digest('hex').slice(0, 12));
}

/** Makes sure that the cluster of a data folder exists and runs; returns its configuration. */
export async function startCluster(data, { wantedPort = 5440 } = {}) {
  mkdirSync(data, { recursive: true });
  if (isRoot) chmodSync(data, 0o755);
  const config = readConfig(data) ?? newConfig(data);
  writeConfig(data, config);
  if (!existsSync(path.join(config.clusterFolder, 'PG_VERSION'))) await initialise(config);
  if (config.postgresPort && running(config)) return config;
  await waitForOldPostmaster(config);
  if (!config.postgresPort || !(await portFree(config.postgresPort))) {
    config.postgresPort = await freePort(config.postgresPort || wantedPort);
    writeConfig(data, config);
  }
  await control(config, 'start', ['-o', `-p ${config.postgresPort}`, '-l', path.join(config.clusterFolder, 'log')]);
  return config;
}

/** Stops the cluster, letting running statements end at once. */
export async function stopCluster(config) {
  if (running(config)) await control(config, 'stop', ['-m', 'fast']);
}

async function initialise(config) {
  const folder = config.clusterFolder;
  rmSync(folder, { recursive: true, force: true });
  mkdirSync(folder, { recursive: true });
  const secret = path.join(folder, '..', `.pw-${randomBytes(6).toString('hex')}`);
  if (isRoot) await run('chown', ['postgres:', folder]);
  writeFileSync(secret, config.passwords.postgres, { mode: 0o600 });
  if (isRoot) await run('chown', ['postgres:', secret]);
  try {
    const [program, args] = asPostgres(path.join(postgresBinaries(), 'initdb'), [
      '-D',
      folder,
      '-U',
      'postgres',
      '--auth=scram-sha-256',
      `--pwfile=${secret}`,
      '--locale=C.UTF-8',
      '--encoding=UTF8',
      '--no-instructions',
    ]);
    await run(program, args, { cwd: '/', env: ENV });
  } finally {
    rmSync(secret, { force: true });
  }
  const settings = [
    "listen_addresses = '127.0.0.1'",
    "unix_socket_directories = ''",
    'max_connections = 80',
    'shared_buffers = 256MB',
    'max_wal_size = 2GB',
    'work_mem = 32MB',
    'maintenance_work_mem = 128MB',
    'jit = off',
    "timezone = 'UTC'",
    "log_timezone = 'UTC'",
  ];
  const file = path.join(folder, 'postgresql.conf');
  writeFileSync(file, readFileSync(file, 'utf8') + `\n# Ouvrage\n${settings.join('\n')}\n`);
}

function postmaster(config) {
  const file = path.join(config.clusterFolder, 'postmaster.pid');
  return existsSync(file) ? Number(readFileSync(file, 'utf8').split('\n')[0]) : undefined;
}

function running(config) {
  const [program, args] = asPostgres(path.join(postgresBinaries(), 'pg_ctl'), ['-D', config.clusterFolder, 'status']);
  return spawnSync(program, args, { cwd: '/', env: ENV, stdio: 'ignore' }).status === 0;
}

/** After kill -9 the postmaster's children may keep the folder for some seconds. */
async function waitForOldPostmaster(config) {
  for (let i = 0; i < 60; i++) {
    const pid = postmaster(config);
    if (pid === undefined || !alive(pid)) return;
    await sleep(500);
  }
}

async function control(config, action, extra) {
  const [program, args] = asPostgres(path.join(postgresBinaries(), 'pg_ctl'), ['-D', config.clusterFolder, '-w', '-s', '-t', '60', ...extra, action]);
  for (let attempt = 0; ; attempt++) {
    const { status } = spawnSync(program, args, { cwd: '/', env: ENV, stdio: 'ignore' });
    if (status === 0) return;
    if (action !== 'start' || attempt === 5) throw new Plain(`PostgreSQL did not ${action}; its log is ${path.join(config.clusterFolder, 'log')}`);
    await sleep(3000);
  }
}

/** Runs SQL as the cluster's superuser. */
export async function superuser(config, database, sql) {
  return run(
    path.join(postgresBinaries(), 'psql'),
    ['-X', '-q', '-A', '-t', '-v', 'ON_ERROR_STOP=1', '-h', '127.0.0.1', '-p', String(config.postgresPort), '-U', 'postgres', '-d', database],
    {
      input: sql,
      env: { ...ENV, PGPASSWORD: config.passwords.postgres },
    },
  );
}

/** Temporary space of one query of a person; a build of production has no limit but the disk. */
const TEMP_FILE_LIMIT = '4GB';
const PROVISION_VERSION = 3;

/**
 * Roles and databases: the application's own, the warehouse with its three roles, the stand-in's.
 * None of the roles is a superuser; each can connect to its own database only. The production builder makes
 * all schemas of the warehouse; those of workspaces are lent to the workspace builder, which can make none.
 */
export async function provision(data, config) {
  if (config.provisioned === PROVISION_VERSION) return;
  const roles = {
    application: 'ouvrage_application',
    production: 'ouvrage_production',
    workspace: 'ouvrage_workspace',
    reader: 'ouvrage_reader',
    harbour: 'harbour',
  };
  const quote = (text) => `'${text.replaceAll("'", "''")}'`;
  let sql = '';
  for (const [key, role] of Object.entries(roles)) {
    sql += `do $$ begin if not exists (select from pg_roles where rolname = ${quote(role)}) then create role ${role} login; end if; end $$;
alter role ${role} login nosuperuser nocreatedb nocreaterole noreplication password ${quote(config.passwords[key])};\n`;
  }
  // Nothing of a workspace's is run as production: neither may act for the other.
  sql += `revoke ${roles.workspace} from ${roles.production};\n`;
  // Names are never looked up in a schema that others can write into, and what one query spills has a limit.
  for (const role of [roles.production, roles.workspace, roles.reader]) sql += `alter role ${role} set search_path = pg_catalog, extensions;\n`;
  sql += `alter role ${roles.workspace} set temp_file_limit = '${TEMP_FILE_LIMIT}';\nalter role ${roles.reader} set temp_file_limit = '${TEMP_FILE_LIMIT}';\n`;
  sql += `do $$ begin if not exists (select from pg_roles where rolname = 'reporting') then create role reporting nologin; end if; end $$;\n`;
  await superuser(config, 'postgres', sql);
  const databases = { ouvrage: roles.application, warehouse: 'postgres', port_ops: roles.harbour };
  for (const [name, owner] of Object.entries(databases)) {
    const exists = await superuser(config, 'postgres', `select 1 from pg_database where datname = ${quote(name)};`);
    if (!exists.trim()) await superuser(config, 'postgres', `create database ${name} owner ${owner};`);
    await superuser(config, 'postgres', `revoke all on database ${name} from public;`);
  }
  await superuser(
    config,
    'postgres',
    `revoke connect on database postgres, template1 from public;
grant connect, temporary, create on database warehouse to ${roles.production};
grant connect, temporary on database warehouse to ${roles.workspace};
revoke create on database warehouse from ${roles.workspace};
grant connect on database warehouse to ${roles.reader};`,
  );
  await superuser(
    config,
    'warehouse',
    `revoke all on schema public from public;
create schema if not exists extensions;
grant usage on schema extensions to ${roles.production}, ${roles.workspace}, ${roles.reader};
alter role ${roles.reader} set default_transaction_read_only = on;
-- Schemas that the workspace builder made itself, before it could not, become lent ones.
do $$ declare s name; begin
  for s in select nspname from pg_namespace where nspowner = '${roles.workspace}'::regrole loop
    execute format('alter schema %I owner to ${roles.production}', s);
    execute format('grant usage, create on schema %I to ${roles.workspace}', s);
  end loop;
end $$;
-- A preview is one person's query under a role that all previews share: it may not end, lock out or watch others.
-- What a workspace builds is an editor's SQL, and may not either.
do $$ declare f regprocedure; begin
  for f in select oid::regprocedure from pg_proc where pronamespace = 'pg_catalog'::regnamespace
    and (proname ~ '^pg_(try_)?advisory_' or proname in ('pg_cancel_backend', 'pg_terminate_backend', 'pg_notify', 'pg_stat_get_activity', 'pg_logical_emit_message')
      or proname ~ '^lo_') loop
    execute format('revoke execute on function %s from public', f);
    execute format('revoke execute on function %s from ${roles.workspace}', f);
    execute format('grant execute on function %s to ${roles.production}', f);
  end loop;
end $$;
revoke select on pg_stat_activity from public;`,
  );
  config.provisioned = PROVISION_VERSION;
  writeConfig(data, config);
}
