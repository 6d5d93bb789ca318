import pg from 'pg';
import type { ConnectionOptions } from 'node:tls';
import type { DatabaseAddress } from '../shared/config.js';
import type { TlsMode } from '@ouvrage/api/connection';

/** A database, and how the way to it is protected. */
export interface Reach extends DatabaseAddress {
  readonly tls: TlsMode;
}

/** The part of a connection that did not work, for people who have to fix it. */
export type ReachPart = 'name' | 'port' | 'tls' | 'password' | 'database' | 'rights' | 'other';

/** A connection that cannot be made, in plain words. */
export class Unreachable extends Error {
  constructor(
    readonly part: ReachPart,
    message: string,
    readonly remedy: string,
  ) {
    super(message);
  }
}

const tlsOptions: Readonly<Record<TlsMode, boolean | ConnectionOptions>> = {
  off: false,
  encrypted: { rejectUnauthorized: false },
  verified: { rejectUnauthorized: true },
};

/** A connected client. @throws Unreachable */
export async function reach(address: Reach): Promise<pg.Client> {
  const { host, port, database, user, password, tls } = address;
  const client = new pg.Client({
    host,
    port,
    database,
    user,
    password,
    ssl: tlsOptions[tls],
    connectionTimeoutMillis: 10_000,
    application_name: 'ouvrage intake',
  });
  client.on('error', () => undefined);
  try {
    await client.connect();
  } catch (error) {
    await client.end().catch(() => undefined);
    throw unreachable(address, error as Error & { code?: string });
  }
  return client;
}

function unreachable({ host, port, database, user, tls }: Reach, error: Error & { code?: string }): Unreachable {
  const { code = '', message } = error;
  switch (code) {
    case 'ENOTFOUND':
    case 'EAI_AGAIN':
      return new Unreachable(
        'name',
        `There is no host ${host}`,
        'Check the host’s name; from the server’s network it may be another one.',
      );
    case 'ECONNREFUSED':
      return new Unreachable(
        'port',
        `Nothing answers at ${host}, port ${port}`,
        'Check the port, and that the database runs and listens on this address.',
      );
    case 'ETIMEDOUT':
    case 'EHOSTUNREACH':
    case 'ENETUNREACH':
      return new Unreachable(
        'port',
        `${host}, port ${port}, does not answer`,
        'A firewall may block it; ask for access.',
      );
    case '28P01':
      return new Unreachable('password', `The password of ${user} is wrong`, 'Check the user and the password.');
    case '28000':
      return tls === 'off' && /no encryption/.test(message)
        ? new Unreachable('tls', `${host} refuses ${user} without encryption`, 'Choose an encrypted connection.')
        : new Unreachable(
            'password',
            `${host} does not let ${user} in: ${message}`,
            'Ask for this user to be let in from the server’s address.',
          );
    case '3D000':
      return new Unreachable(
        'database',
        `There is no database ${database} on ${host}`,
        'Check its name; it is case-sensitive.',
      );
    case '42501':
      return new Unreachable(
        'rights',
        `${user} may not connect to ${database}`,
        `Ask for: grant connect on database ${database} to ${user}.`,
      );
  }
  if (/does not support SSL/.test(message))
    return new Unreachable(
      'tls',
      `${host} does not offer encryption`,
      'Choose a connection without TLS, or have TLS enabled there.',
    );
  if (/certificate|CERT|altnames/i.test(`${code} ${message}`))
    return new Unreachable(
      'tls',
      `The certificate of ${host} is not trusted: ${message}`,
      'Install the authority’s certificate here, or choose encryption without verification.',
    );
  if (/timeout/i.test(message))
    return new Unreachable(
      'port',
      `${host}, port ${port}, does not answer within ten seconds`,
      'A firewall may block it; check the port.',
    );
  return new Unreachable('other', message, 'Check each part of the connection.');
}

/** What a connection can see, once it works. @throws Unreachable also where there is no table to read */
export async function lookAround(address: Reach): Promise<{ readonly version: string; readonly tables: number }> {
  const client = await reach(address);
  try {
    const { rows } = await client.query<{ version: string; tables: number }>(
      `select current_setting('server_version') as version, count(*)::int as tables from pg_class c join pg_namespace n on n.oid = c.relnamespace
       where c.relkind in ('r', 'p', 'v', 'm', 'f') and n.nspname not in ('pg_catalog', 'information_schema') and n.nspname !~ '^pg_'
         and has_schema_privilege(n.oid, 'usage') and has_table_privilege(c.oid, 'select')`,
    );
    if (rows[0]!.tables === 0)
      throw new Unreachable(
        'rights',
        `${address.user} cannot read any tables of ${address.database}`,
        `Ask for: grant usage on schema …, grant select on all tables in schema … to ${address.user}.`,
      );
    return rows[0]!;
  } finally {
    await client.end().catch(() => undefined);
  }
}
