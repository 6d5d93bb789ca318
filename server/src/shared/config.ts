import { readFileSync } from 'node:fs';
import os from 'node:os';
import path from 'node:path';

export const ROLES = {
  production: 'ouvrage_production',
  workspace: 'ouvrage_workspace',
  reader: 'ouvrage_reader',
  /** Reads as viewers do: what is not sensitive. */
  viewer: 'ouvrage_viewer',
} as const;
export type WarehouseRole = keyof typeof ROLES;

export interface DatabaseAddress {
  readonly host: string;
  readonly port: number;
  readonly database: string;
  readonly user: string;
  readonly password: string;
}

/** What the server has to know; read once, from the data folder and the environment. */
export class Config {
  readonly application: DatabaseAddress;
  readonly warehouse: Readonly<Record<WarehouseRole, DatabaseAddress>>;
  readonly harbour: DatabaseAddress;
  /** Encrypts secrets at rest; lives in a file outside every database. */
  readonly key: Buffer;
  readonly projectFolder: string;
  /** Where files are delivered: `drop` in the data folder, or what OUVRAGE_DROP says. */
  readonly dropFolder: string;
  /** Proxies before the server whose header with the caller's address is believed, as Express's `trust proxy` takes them: OUVRAGE_PROXY. */
  readonly proxy: string | number | undefined;
  /** Bytes of a file that is uploaded into the drop folder: OUVRAGE_UPLOAD_BYTES. */
  readonly longestUpload = Number(process.env['OUVRAGE_UPLOAD_BYTES'] ?? 4_000_000_000);
  /** Tables that a run builds at a time: while one waits for an answer or a lock, others use the processors. */
  readonly atATime = Math.min(16, 2 * Math.max(1, os.availableParallelism()));

  constructor(
    readonly data: string,
    readonly port: number,
    readonly demo: boolean,
    /** Days of the harbour between which a new demo plays its past, the last one included; undefined for none. */
    readonly past?: { readonly from: number; readonly to: number },
  ) {
    const file = JSON.parse(readFileSync(path.join(data, 'config.json'), 'utf8')) as {
      postgresPort: number;
      key: string;
      passwords: Record<string, string>;
    };
    const address = (database: string, user: string, role: string): DatabaseAddress => ({
      host: '127.0.0.1',
      port: file.postgresPort,
      database,
      user,
      password: file.passwords[role]!,
    });
    this.application = address('ouvrage', 'ouvrage_application', 'application');
    this.warehouse = {
      production: address('warehouse', ROLES.production, 'production'),
      workspace: address('warehouse', ROLES.workspace, 'workspace'),
      reader: address('warehouse', ROLES.reader, 'reader'),
      viewer: address('warehouse', ROLES.viewer, 'viewer'),
    };
    this.harbour = address('port_ops', 'harbour', 'harbour');
    this.key = Buffer.from(file.key, 'base64');
    this.projectFolder = path.join(data, 'project.git');
    const proxy = process.env['OUVRAGE_PROXY'];
    this.proxy = proxy === undefined || proxy === '' ? undefined : /^\d+$/.test(proxy) ? Number(proxy) : proxy;
    this.dropFolder = process.env['OUVRAGE_DROP'] ?? path.join(data, 'drop');
  }

  static fromEnvironment(): Config {
    const { OUVRAGE_DATA, OUVRAGE_PORT, OUVRAGE_DEMO } = process.env;
    if (!OUVRAGE_DATA) throw new Error('OUVRAGE_DATA names the data folder; npm start sets it');
    const past = /^(\d+)-(\d+)$/.exec(process.env['OUVRAGE_PAST'] ?? '');
    return new Config(
      OUVRAGE_DATA,
      Number(OUVRAGE_PORT ?? 4100),
      OUVRAGE_DEMO === '1',
      past ? { from: Number(past[1]), to: Number(past[2]) } : undefined,
    );
  }
}
