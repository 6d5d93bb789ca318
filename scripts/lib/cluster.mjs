import { spawnSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readFileSync, realpathSync, rmSync, statSync, writeFileSync } from 'node:fs';
import path from 'node:path';
import { alive, freePort, isRoot, Plain, portFree, run, say, sleep } from './shell.mjs';
import { postgresBinaries } from './packages.mjs';

/** Under root everything of PostgreSQL runs as user postgres. */
const asPostgres = (program, args) =>
  isRoot ? ['runuser', ['-u', 'postgres', '--', program, ...args]] : [program, args];
const ENV = { PATH: process.env.PATH, LC_ALL: 'C.UTF-8', HOME: '/tmp' };

/**
 * `.data/config.json`: passwords, keys, ports, and which cluster is the folder's. Readable by its owner only. It holds
 * no path, so that the folder can be moved; where the cluster is, is worked out again each time, as `clusterFolder`.
 */
export function readConfig(data) {
  const file = path.join(data, 'config.json');
  if (!existsSync(file)) return undefined;
  const { clusterFolder: old, ...config } = JSON.parse(readFileSync(file, 'utf8'));
  if (config.cluster === undefined) {
    // Written before folders could be moved: the path itself was kept.
    const isOutside = old !== undefined && old.startsWith(OUTSIDE);
    Object.assign(config, { cluster: isOutside ? 'outside' : 'inside', id: isOutside ? path.basename(old) : newId() });
  }
  return { ...config, clusterFolder: folderOf(data, config) };
}

export function writeConfig(data, config) {
  const file = path.join(data, 'config.json');
  const { clusterFolder: _, ...kept } = config;
  writeFileSync(file, JSON.stringify(kept, undefined, 2) + '\n', { mode: 0o600 });
  chmodSync(file, 0o600);
}

const password = () => randomBytes(18).toString('base64url');
const newId = () => randomBytes(8).toString('hex');

/** Where clusters are whose data folder the user postgres cannot reach. */
const OUTSIDE = '/var/lib/ouvrage';
const folderOf = (data, { cluster, id }) =>
  cluster === 'outside' ? path.join(OUTSIDE, id) : path.join(data, 'postgres');

/** A new configuration: random secrets, ports still open. */
function newConfig(data) {
  const config = {
    id: newId(),
    cluster: reachable(data) ? 'inside' : 'outside',
    postgresPort: 0,
    key: randomBytes(32).toString('base64'),
    passwords: Object.fromEntries(
      ['postgres', 'application', 'production', 'workspace', 'reader', 'viewer', 'harbour'].map((role) => [
        role,
        password(),
      ]),
    ),
  };
  return { ...config, clusterFolder: folderOf(data, config) };
}

/** Whether user postgres can reach the data folder. */
function reachable(data) {
  if (!isRoot) return true;
  const [program, args] = asPostgres('test', ['-x', data]);
  return spawnSync(program, args, { cwd: '/', stdio: 'ignore' }).status === 0;
}

/** Makes sure that the cluster of a data folder exists and runs; returns its configuration. */
export async function startCluster(data, { wantedPort = 5440 } = {}) {
  mkdirSync(data, { recursive: true });
  if (isRoot) chmodSync(data, 0o755);
  const config = readConfig(data) ?? newConfig(data);
  refuseOthers(data, config);
  writeConfig(data, config);
  if (!existsSync(path.join(config.clusterFolder, 'PG_VERSION'))) await initialise(config);
  claim(data, config);
  if (await isReady(config)) return config;
  if (!config.postgresPort || !(await portFree(config.postgresPort))) {
    config.postgresPort = await freePort(config.postgresPort || wantedPort);
    writeConfig(data, config);
  }
  await control(config, 'start', ['-o', `-p ${config.postgresPort}`, '-l', path.join(config.clusterFolder, 'log')]);
  await refuseOtherCluster(config);
  return config;
}

/** Whether the cluster has ended: its postmaster is gone. */
export const hasEnded = (config) => postmaster(config) === undefined;

/** Stops the cluster, letting running statements end at once; what does not end in time is ended as if the power had failed. */
export async function stopCluster(config) {
  if (!postmaster(config)) return;
  for (const [mode, seconds] of [
    ['fast', 60],
    ['immediate', 20],
  ]) {
    if (pgControl(config, ['-w', '-s', '-t', String(seconds), '-m', mode, 'stop']) === 0 || !postmaster(config)) return;
  }
  throw new Plain(
    `PostgreSQL could not be stopped (process ${postmaster(config)?.pid}); its log is ${path.join(config.clusterFolder, 'log')}`,
  );
}

/** A cluster outside its data folder knows which one it is of, so that a copy of that one is distinguished from it. */
const claimOf = (config) => path.join(config.clusterFolder, 'ouvrage-data');

function claim(data, config) {
  if (config.cluster === 'outside') writeFileSync(claimOf(config), `${realpathSync(data)}\n`);
}

/** @throws Plain for a folder that is a copy: the database of the original is not in it */
function refuseOthers(data, config) {
  if (config.cluster !== 'outside' || !existsSync(claimOf(config))) return;
  const other = readFileSync(claimOf(config), 'utf8').trim();
  if (other === realpathSync(data) || readConfig(other)?.id !== config.id) return;
  throw new Plain(
    `${data} is a copy of ${other}, whose database is in ${config.clusterFolder}: it belongs to ${other} alone. Keep one of the two folders, or put data where user postgres can reach it, so that the database is inside.`,
  );
}

/** @throws Plain where another cluster answers at the port */
async function refuseOtherCluster(config) {
  const answers = (await superuser(config, 'postgres', 'show data_directory')).trim();
  if (realpathSync(answers) === realpathSync(config.clusterFolder)) return;
  throw new Plain(
    `Another PostgreSQL, of ${answers}, answers at port ${config.postgresPort}: stop it, then start again.`,
  );
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

/**
 * The running postmaster of a cluster, by the file that it keeps: its process, its port, and whether it is
 * starting, ready or stopping. A file that came with a copy of the folder, or that nobody keeps any more, is none.
 */
function postmaster(config) {
  const file = path.join(config.clusterFolder, 'postmaster.pid');
  if (!existsSync(file)) return undefined;
  const [pid, folder, , port, , , , state = ''] = readFileSync(file, 'utf8').split('\n');
  if (!alive(Number(pid)) || !isPostgres(Number(pid))) return undefined;
  if (!isSameFolder(folder, config.clusterFolder)) {
    if (existsSync(folder)) {
      // The original's: it came here with a copy.
      rmSync(file, { force: true });
      return undefined;
    }
    throw new Plain(
      `The PostgreSQL of this folder still runs from where the folder was (${folder}, process ${pid}). Stop it, then start again: kill ${pid}`,
    );
  }
  return { pid: Number(pid), port: Number(port), state: state.trim() };
}

function isSameFolder(a, b) {
  try {
    const [first, second] = [statSync(a), statSync(b)];
    return first.dev === second.dev && first.ino === second.ino;
  } catch {
    return false;
  }
}

/** Whether a process is a PostgreSQL server: numbers of processes are given again. */
function isPostgres(pid) {
  try {
    return /postgres/.test(readFileSync(`/proc/${pid}/cmdline`, 'utf8'));
  } catch {
    return !existsSync('/proc/self');
  }
}

const PATIENCE_SECONDS = 600;

/** Waits while the cluster starts (after a crash it reads its log again) or goes down. @returns whether it is ready */
async function isReady(config) {
  let told = false;
  for (let waited = 0; waited < PATIENCE_SECONDS * 2; waited++) {
    const found = postmaster(config);
    if (!found) return false;
    if (found.state === 'ready') {
      config.postgresPort = found.port;
      return true;
    }
    if (found.state === 'stopping' && waited >= 40) {
      await stopCluster(config);
      return false;
    }
    if (!told && waited === 4)
      say(
        found.state === 'stopping' ? 'Waiting for PostgreSQL to end ...' : 'Waiting for PostgreSQL, which recovers ...',
      );
    told ||= waited >= 4;
    await sleep(500);
  }
  throw new Plain(
    `PostgreSQL is not ready after ${PATIENCE_SECONDS} seconds; its log is ${path.join(config.clusterFolder, 'log')}`,
  );
}

/** @returns the exit status of pg_ctl */
function pgControl(config, rest) {
  const [program, args] = asPostgres(path.join(postgresBinaries(), 'pg_ctl'), ['-D', config.clusterFolder, ...rest]);
  return spawnSync(program, args, { cwd: '/', env: ENV, stdio: 'ignore' }).status;
}

async function control(config, action, extra) {
  for (let attempt = 0; ; attempt++) {
    if (pgControl(config, ['-w', '-s', '-t', String(PATIENCE_SECONDS), ...extra, action]) === 0) return;
    if (attempt === 5)
      throw new Plain(`PostgreSQL did not ${action}; its log is ${path.join(config.clusterFolder, 'log')}`);
    // After kill -9 the children of the old postmaster keep the folder for some seconds.
    await sleep(3000);
  }
}

/** Runs SQL as the cluster's superuser. */
export async function superuser(config, database, sql) {
  return run(
    path.join(postgresBinaries(), 'psql'),
    [
      '-X',
      '-q',
      '-A',
      '-t',
      '-v',
      'ON_ERROR_STOP=1',
      '-h',
      '127.0.0.1',
      '-p',
      String(config.postgresPort),
      '-U',
      'postgres',
      '-d',
      database,
    ],
    {
      input: sql,
      env: { ...ENV, PGPASSWORD: config.passwords.postgres },
    },
  );
}

/** Temporary space of one query of a person; a build of production has no limit but the disk. */
const TEMP_FILE_LIMIT = '4GB';
const PROVISION_VERSION = 4;

/**
 * Roles and databases: the application's own, the warehouse with its four roles, the stand-in's.
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
    viewer: 'ouvrage_viewer',
    harbour: 'harbour',
  };
  // Of a folder that was made before there was the role.
  for (const role of Object.keys(roles)) config.passwords[role] ??= password();
  const quote = (text) => `'${text.replaceAll("'", "''")}'`;
  let sql = '';
  for (const [key, role] of Object.entries(roles)) {
    sql += `do $$ begin if not exists (select from pg_roles where rolname = ${quote(role)}) then create role ${role} login; end if; end $$;
alter role ${role} login nosuperuser nocreatedb nocreaterole noreplication password ${quote(config.passwords[key])};\n`;
  }
  // Nothing of a workspace's is run as production: neither may act for the other.
  sql += `revoke ${roles.workspace} from ${roles.production};\n`;
  // Names are never looked up in a schema that others can write into, and what one query spills has a limit.
  for (const role of [roles.production, roles.workspace, roles.reader, roles.viewer])
    sql += `alter role ${role} set search_path = pg_catalog, extensions;\n`;
  sql += `alter role ${roles.workspace} set temp_file_limit = '${TEMP_FILE_LIMIT}';\nalter role ${roles.reader} set temp_file_limit = '${TEMP_FILE_LIMIT}';\nalter role ${roles.viewer} set temp_file_limit = '${TEMP_FILE_LIMIT}';\n`;
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
grant connect on database warehouse to ${roles.reader}, ${roles.viewer};`,
  );
  await superuser(
    config,
    'warehouse',
    `revoke all on schema public from public;
create schema if not exists extensions;
grant usage on schema extensions to ${roles.production}, ${roles.workspace}, ${roles.reader}, ${roles.viewer};
alter role ${roles.reader} set default_transaction_read_only = on;
alter role ${roles.viewer} set default_transaction_read_only = on;
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
