import type { INestApplication } from '@nestjs/common';
import { expect } from '@jest/globals';
import { NestFactory } from '@nestjs/core';
import { loadParser } from '@ouvrage/core/sql';
import { readFileSync } from 'node:fs';
import path from 'node:path';
import pg from 'pg';
import request from 'supertest';
import { AppModule } from './app.module.js';
import { configure } from './http.js';
import { Seeder } from './seeder.js';
import { Config } from './shared/config.js';

/** The whole application on the test cluster, with the demo; started once for a test file. */
export interface TestApplication {
  readonly app: INestApplication;
  readonly config: Config;
  signIn(name: string): Promise<Client>;
  close(): Promise<void>;
}

type Answer = request.Response;

/** A signed-in person's requests. */
export interface Client {
  get(path: string): request.Test;
  send(method: 'post' | 'put' | 'delete', path: string, body?: unknown): Promise<Answer>;
  /** Waits for a run to end; its detail. */
  ended(run: number): Promise<RunView>;
  readonly cookie: string;
  readonly csrf: string;
}

export interface RunView {
  readonly id: number;
  readonly state: string;
  readonly error: string | null;
  readonly steps: readonly {
    readonly id: number;
    readonly table: string;
    readonly state: string;
    readonly rowsIn: string | null;
    readonly rowsOut: string | null;
    readonly error: { message: string; line?: number; column?: number; path?: string } | null;
  }[];
}

export async function startApplication(config = Config.fromEnvironment()): Promise<TestApplication> {
  await loadParser();
  const app = await NestFactory.create(AppModule.of(config), { logger: false, bodyParser: false, abortOnError: false });
  configure(app);
  await app.listen(0, '127.0.0.1');
  await app.get(Seeder).seed(() => undefined);
  return { app, config, signIn: (name) => signIn(app, name), close: () => app.close() };
}

async function signIn(app: INestApplication, name: string): Promise<Client> {
  const server = app.getHttpServer() as Parameters<typeof request>[0];
  const answer = await request(server).post('/api/sign-in').send({ name, password: 'saltmere' });
  const cookie = (answer.headers['set-cookie'] as unknown as string[])[0]!.split(';')[0]!;
  const { csrf } = answer.body as { csrf: string };
  const client: Client = {
    cookie,
    csrf,
    get: (path) => request(server).get(path).set('cookie', cookie),
    send: (method, path, body) => {
      const asked = request(server)[method](path).set('cookie', cookie).set('x-csrf-token', csrf);
      return body === undefined ? asked : asked.send(body as object);
    },
    ended: async (run) => {
      for (;;) {
        const view = (await client.get(`/api/runs/${run}`)).body as RunView;
        if (!['queued', 'running'].includes(view.state)) return view;
        await new Promise((resolve) => setTimeout(resolve, 60));
      }
    },
  };
  return client;
}

/** Opens a workspace. @returns its slug */
export async function workspace(client: Client, name: string): Promise<string> {
  return ((await client.send('post', '/api/workspaces', { name })).body as { slug: string }).slug;
}

/** Opens a workspace that everybody edits. @returns its name in addresses */
export async function sharedWorkspace(client: Client, name: string): Promise<string> {
  const slug = await workspace(client, name);
  await client.send('put', `/api/workspaces/${slug}/sharing`, { all: true, names: [] });
  return slug;
}

/** Changes one file of a workspace as a draft. @returns the answer's status */
export async function draft(
  client: Client,
  slug: string,
  file: string,
  change: (text: string) => string | null,
): Promise<number> {
  const { files, drafts } = (await client.get(`/api/workspaces/${slug}/files`)).body as {
    files: Record<string, string>;
    drafts: { path: string; text: string; version: number }[];
  };
  const known = drafts.find((d) => d.path === file);
  const answer = await client.send('put', `/api/workspaces/${slug}/drafts`, {
    path: file,
    text: change(known?.text ?? files[file] ?? ''),
    version: known?.version ?? 0,
  });
  return answer.status;
}

/** Runs tables of a workspace, and waits for the end. */
export async function runTables(client: Client, slug: string, tables: string[], upstream = true, downstream = false) {
  const answer = await client.send('post', `/api/workspaces/${slug}/runs`, { tables, upstream, downstream });
  expect(answer.body).toMatchObject({ state: 'queued' });
  return client.ended((answer.body as { id: number }).id);
}

/** The superuser of the test cluster; the application has no such role. */
export function superuser(): { readonly user: string; readonly password: string } {
  const { passwords } = JSON.parse(readFileSync(path.join(Config.fromEnvironment().data, 'config.json'), 'utf8')) as {
    passwords: { postgres: string };
  };
  return { user: 'postgres', password: passwords.postgres };
}

/** Rows of one statement in the warehouse, as a role of it. */
export const warehouse = async <T extends pg.QueryResultRow>(
  sql: string,
  role: 'production' | 'workspace' | 'reader' | 'viewer' | 'superuser' = 'production',
): Promise<T[]> => {
  const roles = Config.fromEnvironment().warehouse;
  const client = new pg.Client(role === 'superuser' ? { ...roles.production, ...superuser() } : roles[role]);
  await client.connect();
  try {
    return (await client.query<T>(sql)).rows;
  } finally {
    await client.end();
  }
};
