import { createHmac } from 'node:crypto';
import { lookup as resolve, type LookupAddress } from 'node:dns';
import http from 'node:http';
import https from 'node:https';
import { BlockList, isIP, type LookupFunction } from 'node:net';

const TIMEOUT_MS = 10_000;

/** Networks that nobody outside reaches: a webhook that leads into one could speak to what trusts its neighbours. */
const PRIVATE: readonly (readonly [string, number, 'ipv4' | 'ipv6'])[] = [
  ['0.0.0.0', 8, 'ipv4'],
  ['10.0.0.0', 8, 'ipv4'],
  ['100.64.0.0', 10, 'ipv4'],
  ['127.0.0.0', 8, 'ipv4'],
  ['169.254.0.0', 16, 'ipv4'],
  ['172.16.0.0', 12, 'ipv4'],
  ['192.0.0.0', 24, 'ipv4'],
  ['192.0.2.0', 24, 'ipv4'],
  ['192.168.0.0', 16, 'ipv4'],
  ['198.18.0.0', 15, 'ipv4'],
  ['198.51.100.0', 24, 'ipv4'],
  ['203.0.113.0', 24, 'ipv4'],
  ['224.0.0.0', 3, 'ipv4'],
  ['::', 96, 'ipv6'],
  ['64:ff9b::', 96, 'ipv6'],
  ['100::', 64, 'ipv6'],
  ['2001:db8::', 32, 'ipv6'],
  ['2002::', 16, 'ipv6'],
  ['fc00::', 7, 'ipv6'],
  ['fe80::', 10, 'ipv6'],
  ['ff00::', 8, 'ipv6'],
];

const closed = new BlockList();
for (const [net, bits, family] of PRIVATE) closed.addSubnet(net, bits, family);

/** A list of ranges such as `10.1.0.0/16`. @throws RangeError for what is none */
export function rangesOf(texts: readonly string[]): BlockList {
  const list = new BlockList();
  for (const text of texts) {
    const [net = '', bits] = text.trim().split('/');
    const family = isIP(net);
    const most = family === 6 ? 128 : 32;
    const length = bits === undefined ? most : /^\d{1,3}$/.test(bits) ? Number(bits) : NaN;
    if (family === 0 || !(length >= 0 && length <= most)) throw new RangeError(`${text} is not a range of addresses`);
    list.addSubnet(net, length, family === 6 ? 'ipv6' : 'ipv4');
  }
  return list;
}

/** Whether a webhook may lead to an address. @param allowed ranges that administrators list */
export function mayReach(address: string, allowed: BlockList): boolean {
  // An address of version 4 in the form of version 6 is the address of version 4.
  const mapped = /^::ffff:(\d+\.\d+\.\d+\.\d+)$/i.exec(address)?.[1] ?? address;
  const family = isIP(mapped) === 6 ? 'ipv6' : 'ipv4';
  if (family === 'ipv6' && /^::ffff:/i.test(mapped)) return false;
  return allowed.check(mapped, family) || !closed.check(mapped, family);
}

/** A host name is resolved once, and the connection goes to what was looked at. */
const guarded =
  (allowed: BlockList): LookupFunction =>
  (host, options, done) => {
    resolve(host, { ...options, all: true }, (error, addresses: LookupAddress[]) => {
      if (error) return done(error, '', 0);
      const open = addresses.filter((a) => mayReach(a.address, allowed));
      if (open.length === 0) return done(new Error(refused(host)), '', 0);
      if (options.all) return done(null, open as never, 0);
      done(null, open[0]!.address, open[0]!.family);
    });
  };

const refused = (host: string) => `${host} is in a private network that is not listed under Settings, Sending`;

/** Signs what a webhook is sent: HMAC-SHA-256 of id, time and body, a line each, in hexadecimal digits. */
export const signature = (secret: string, { id, time, body }: { id: string; time: string; body: string }): string =>
  createHmac('sha256', secret).update(`${id}\n${time}\n${body}`).digest('hex');

export interface Posted {
  readonly id: string;
  readonly body: string;
  readonly secret: string;
  /** Ranges of private networks that it may lead to. */
  readonly ranges: readonly string[];
}

/** Why an address cannot be a webhook's; undefined where it can. */
export function addressProblem(address: string): string | undefined {
  let url: URL;
  try {
    url = new URL(address);
  } catch {
    return 'it is not an address such as https://desk.example/ouvrage';
  }
  if (url.protocol !== 'https:' && url.protocol !== 'http:') return 'it must begin with https:// or http://';
  if (url.username || url.password) return 'it must not hold a name or a password';
  return undefined;
}

/** Sends a signed message. @throws Error with what a person can do about it */
export async function post(address: string, { id, body, secret, ranges }: Posted): Promise<void> {
  const problem = addressProblem(address);
  if (problem !== undefined) throw new Error(`The address of the webhook: ${problem}`);
  const url = new URL(address);
  const allowed = rangesOf(ranges);
  const host = url.hostname.replace(/^\[|\]$/g, '');
  if (isIP(host) && !mayReach(host, allowed)) throw new Error(refused(host));
  const time = new Date(Date.now()).toISOString();
  const headers = {
    'content-type': 'application/json; charset=utf-8',
    'content-length': Buffer.byteLength(body),
    'ouvrage-delivery': id,
    'ouvrage-time': time,
    'ouvrage-signature': signature(secret, { id, time, body }),
  };
  const client = url.protocol === 'https:' ? https : http;
  await new Promise<void>((sent, failed) => {
    const request = client.request(
      url,
      { method: 'POST', headers, lookup: guarded(allowed), timeout: TIMEOUT_MS, agent: false },
      (response) => {
        const status = response.statusCode ?? 0;
        response.destroy();
        if (status >= 200 && status < 300) return sent();
        failed(
          new Error(
            status >= 300 && status < 400
              ? `it answered ${status}; redirects are not followed`
              : `it answered ${status}`,
          ),
        );
      },
    );
    const deadline = setTimeout(() => request.destroy(new Error('it did not answer within 10 seconds')), TIMEOUT_MS);
    request.on('timeout', () => request.destroy(new Error('it did not answer within 10 seconds')));
    request.on('error', failed);
    request.on('close', () => clearTimeout(deadline));
    request.end(body);
  });
}
