import { createServer, type IncomingHttpHeaders, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { addressProblem, mayReach, post, rangesOf, signature } from './webhook.js';

describe('where a webhook may lead', () => {
  const nowhere = rangesOf([]);
  test.each([
    ['93.184.216.34', true],
    ['10.1.2.3', false],
    ['127.0.0.1', false],
    ['127.255.0.9', false],
    ['0.0.0.0', false],
    ['169.254.169.254', false],
    ['172.31.0.1', false],
    ['172.32.0.1', true],
    ['192.168.1.1', false],
    ['100.64.0.1', false],
    ['255.255.255.255', false],
    ['::1', false],
    ['::', false],
    ['::ffff:127.0.0.1', false],
    ['::ffff:7f00:1', false],
    ['::ffff:93.184.216.34', true],
    ['fe80::1', false],
    ['fd00::1', false],
    ['64:ff9b::7f00:1', false],
    ['2002:7f00:1::', false],
    ['2a00:1450:4001::1', true],
  ])('%s: %s', (address, may) => {
    expect(mayReach(address, nowhere)).toBe(may);
  });
  test('what administrators list is reached, and no more', () => {
    const list = rangesOf(['10.1.0.0/16', '::1']);
    expect(['10.1.255.1', '10.2.0.1', '::1', '::2'].map((a) => mayReach(a, list))).toEqual([true, false, true, false]);
  });
  test.each(['x', '10.0.0.0/33', '10.0.0/8', '10.0.0.0/-1', '10.0.0.0/', '::1/129', ''])('%p is no range', (text) => {
    expect(() => rangesOf([text])).toThrow(RangeError);
  });
  test.each([
    ['https://desk.example/x', undefined],
    ['file:///etc/passwd', 'it must begin with https:// or http://'],
    ['desk.example', 'it is not an address such as https://desk.example/ouvrage'],
    ['https://a:b@desk.example', 'it must not hold a name or a password'],
  ])('%s', (address, problem) => {
    expect(addressProblem(address)).toBe(problem);
  });
});

describe('a signed message', () => {
  let server: Server;
  let base: string;
  let got: { headers: IncomingHttpHeaders; body: string; url: string }[] = [];
  beforeAll(async () => {
    server = createServer((request, response) => {
      let body = '';
      request.on('data', (part) => (body += String(part)));
      request.on('end', () => {
        got.push({ headers: request.headers, body, url: request.url! });
        const status = Number(request.url!.slice(1)) || 204;
        response.writeHead(status, status === 302 ? { location: '/200' } : {}).end();
      });
    });
    await new Promise<void>((done) => server.listen(0, '127.0.0.1', done));
    base = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  });
  afterAll(() => new Promise((done) => server.close(done)));
  const send = (path: string, ranges = ['127.0.0.0/8'], host = base) =>
    post(`${host}${path}`, { id: 'd-1', body: '{"a":1}', secret: 'shh', ranges });

  test('bears its id, its time and what proves both with the body', async () => {
    got = [];
    await send('/204');
    const [{ headers, body }] = got as [(typeof got)[number]];
    const time = String(headers['ouvrage-time']);
    expect(headers['ouvrage-delivery']).toBe('d-1');
    expect(headers['ouvrage-signature']).toBe(signature('shh', { id: 'd-1', time, body }));
    expect(signature('shh', { id: 'd-2', time, body })).not.toBe(headers['ouvrage-signature']);
  });
  test.each([
    [302, 'it answered 302; redirects are not followed'],
    [500, 'it answered 500'],
  ])('is not sent where the answer is %i', async (status, message) => {
    got = [];
    await expect(send(`/${status}`)).rejects.toThrow(message);
    expect(got.length).toBe(1);
  });
  test('goes to no private network, by address or by name', async () => {
    got = [];
    const port = base.split(':').at(-1);
    const hosts = [
      base,
      `http://localhost:${port}`,
      `http://[::ffff:127.0.0.1]:${port}`,
      `http://2130706433:${port}`,
      `http://0x7f.1:${port}`,
    ];
    for (const host of hosts) await expect(send('/204', [], host)).rejects.toThrow('is in a private network');
    expect(got).toEqual([]);
  });
});
