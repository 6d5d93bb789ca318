/** Whether the way to a database is encrypted, and whether its certificate is checked against the system's authorities. */
export type TlsMode = 'off' | 'encrypted' | 'verified';

export type BoundEnvironment = 'production' | 'workspaces';

export interface ConnectionEntry {
  readonly id: string;
  readonly name: string;
  readonly host: string;
  readonly port: number;
  readonly database: string;
  readonly user: string;
  readonly tls: TlsMode;
  readonly bound: readonly { readonly server: string; readonly environment: BoundEnvironment }[];
}

export interface ConnectionInput extends Omit<ConnectionEntry, 'id' | 'bound'> {
  readonly password?: string | undefined;
}

export type ConnectionTest =
  | { readonly ok: true; readonly version: string; readonly tables: number }
  | { readonly ok: false; readonly part: string; readonly message: string; readonly remedy: string };

export interface NewConnection {
  readonly id: string;
}
