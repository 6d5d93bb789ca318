import { digest } from '../model/digest.js';

const DAY = 86_400_000;

/**
 * A value that stands for a sensitive one: the same for the same value, of the column's type, and without a way back to
 * it for who does not know the secret.
 */
export function madeUp(value: string | null, type: string, secret: string): string | null {
  if (value === null) return null;
  const hash = digest(`${secret}\u0000${value}`);
  const number = Number.parseInt(hash.slice(0, 8), 16);
  const base = type.replace(/\(.*\)/, '');
  switch (base) {
    case 'smallint':
      return String(number % 30_000);
    case 'integer':
    case 'bigint':
      return String(number % 1_000_000_000);
    case 'numeric':
    case 'real':
    case 'double precision':
      return String(number % 1_000);
    case 'boolean':
      return number % 2 ? 'true' : 'false';
    case 'date':
      return new Date((number % 20_000) * DAY).toISOString().slice(0, 10);
    case 'timestamp':
    case 'timestamptz':
      return new Date((number % 20_000) * DAY).toISOString();
    case 'uuid':
      return `${hash.slice(0, 8)}-${hash.slice(8, 12)}-4${hash.slice(13, 16)}-8${hash.slice(17, 20)}-${hash.slice(20, 32)}`;
    case 'text':
    case 'varchar':
    case 'character': {
      const most = Number(/\((\d+)\)/.exec(type)?.[1] ?? 20);
      return `made up ${hash.slice(0, 8)}`.slice(0, most);
    }
    default:
      return null;
  }
}
