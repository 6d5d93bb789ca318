import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Connection } from './connection.js';
import { Ended } from './ended.js';

let server: Server;
let address: string;
let answers: (request: IncomingMessage, response: ServerResponse) => void;
const asked: { method: string | undefined; url: string | undefined; authorization: string | undefined }[] = [];
beforeAll(async () => {
  server = createServer((request, response) => {
    asked.push({ method: request.method, url: request.url, authorization: request.headers.authorization });
    answers(request, response);
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
});
afterAll(() => new Promise((resolve) => server.close(resolve)));

const connection = () =>
  Connection.from({ OUVRAGE_TOKEN: 'secret', OUVRAGE_SERVER: 'http://elsewhere' }, `${address}/`);
const problem = (status: number, body: unknown, type = 'application/problem+json') => {
  answers = (_, response) =>
    void response
      .writeHead(status, { 'content-type': type })
      .end(typeof body === 'string' ? body : JSON.stringify(body));
};
const ended = (body: Promise<unknown>) =>
  body.then(
    () => undefined,
    (error: unknown) =>
      error instanceof Ended ? { code: error.code, message: error.message, hint: error.hint } : error,
  );

test('the server that is said is asked, with the token', async () => {
  problem(200, { well: true });
  expect(await connection().get('runs/1')).toEqual({ well: true });
  expect(asked.at(-1)).toEqual({ method: 'GET', url: '/api/runs/1', authorization: 'Bearer secret' });
});

test.each<[number, unknown, number, string]>([
  [400, { title: 'Invalid request', detail: 'x' }, 2, 'Invalid request'],
  [401, { title: 'The access token is unknown' }, 4, 'The access token is unknown'],
  [403, { title: 'Lacks a right' }, 4, 'Lacks a right'],
  [404, { title: 'Not there' }, 2, 'Not there'],
  [409, { title: 'Needs consent' }, 4, 'Needs consent'],
  [422, { title: 'One error' }, 4, 'One error'],
  [500, { title: 'Something broke' }, 3, 'Something broke'],
  [503, '<html>', 3, 'answered 503 to GET x'],
])('an answer of %p ends it with words', async (status, body, code, words) => {
  problem(status, body);
  expect(await ended(connection().get('x'))).toMatchObject({ code, message: expect.stringContaining(words) });
});

test('the token follows no redirection', async () => {
  const before = asked.length;
  answers = (_, response) => void response.writeHead(302, { location: `${address}/elsewhere` }).end();
  expect(await ended(connection().get('x'))).toMatchObject({ code: 3 });
  expect(asked.length - before).toBe(1);
});
