import { createCipheriv, createDecipheriv, createHash, randomBytes, randomInt, timingSafeEqual } from 'node:crypto';

/** A secret as it is kept: AES-256-GCM, `iv.tag.text` in base64url. */
export function seal(key: Buffer, secret: string): string {
  const iv = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', key, iv);
  const text = Buffer.concat([cipher.update(secret, 'utf8'), cipher.final()]);
  return [iv, cipher.getAuthTag(), text].map((b) => b.toString('base64url')).join('.');
}

/** @throws Error when the key is another one or the text was changed */
export function unseal(key: Buffer, sealed: string): string {
  const [iv, tag, text] = sealed.split('.').map((part) => Buffer.from(part, 'base64url'));
  const decipher = createDecipheriv('aes-256-gcm', key, iv!);
  decipher.setAuthTag(tag!);
  return Buffer.concat([decipher.update(text!), decipher.final()]).toString('utf8');
}

/** Letters and digits that nobody takes for others. */
const SIGNS = 'abcdefghjkmnpqrstuvwxyz23456789';

/** A random secret for people to read and type: four groups of four signs, 79 bits. */
export const spokenSecret = (): string =>
  Array.from({ length: 4 }, () => Array.from({ length: 4 }, () => SIGNS[randomInt(SIGNS.length)]).join('')).join('-');

export const randomToken = () => randomBytes(32).toString('base64url');

/** What is stored of a random token: it needs no salt. */
export const tokenHash = (token: string) => createHash('sha256').update(token).digest('hex');

export function sameText(a: string, b: string): boolean {
  const [x, y] = [createHash('sha256').update(a).digest(), createHash('sha256').update(b).digest()];
  return timingSafeEqual(x, y);
}
