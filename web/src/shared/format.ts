import { formatDistanceToNowStrict } from 'date-fns';

/** `1,204`; the number may come as text so that no digit is lost. */
export function count(n: number | string | null | undefined): string {
  if (n === null || n === undefined) return '–';
  return typeof n === 'number' ? n.toLocaleString('en') : n.replace(/\B(?=(\d{3})+(?!\d))/g, ',');
}

/** `1 row`, `1,204 rows`. */
export function rows(n: number | string | null | undefined): string {
  return `${count(n)} ${String(n) === '1' ? 'row' : 'rows'}`;
}

export function plural(n: number, one: string, many = `${one}s`): string {
  return `${count(n)} ${n === 1 ? one : many}`;
}

/** `84 ms`, `1.2 s`, `3 min 20 s`. */
export function duration(milliseconds: number | null | undefined): string {
  if (milliseconds === null || milliseconds === undefined) return '–';
  if (milliseconds < 1000) return `${Math.round(milliseconds)} ms`;
  if (milliseconds < 60_000) return `${(milliseconds / 1000).toFixed(1)} s`;
  return `${Math.floor(milliseconds / 60_000)} min ${Math.round((milliseconds % 60_000) / 1000)} s`;
}

export function between(from: string | null, to: string | null): number | null {
  return from ? new Date(to ?? Date.now()).getTime() - new Date(from).getTime() : null;
}

/** `6 minutes ago`. */
export function ago(at: string | null | undefined): string {
  return at ? `${formatDistanceToNowStrict(new Date(at))} ago` : 'never';
}

/** `2026-03-01 14:05`. */
export function moment(at: string | null | undefined): string {
  if (!at) return '–';
  const d = new Date(at);
  const two = (n: number) => String(n).padStart(2, '0');
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}`;
}

export const shortCommit = (id: string) => id.slice(0, 7);

const NUMERIC = /^(smallint|integer|bigint|numeric|real|double precision|money)/;
export const isNumeric = (type: string | undefined) => NUMERIC.test(type ?? '');

/** A number with separators for reading; whatever is no plain number stays as it is. */
export function cell(value: string, type: string): string {
  if (!/^(integer|bigint|numeric)/.test(type) || !/^-?\d+(\.\d+)?$/.test(value)) return value;
  const [whole = '', fraction] = value.split('.');
  return whole.replace(/\B(?=(\d{3})+(?!\d))/g, ',') + (fraction === undefined ? '' : `.${fraction}`);
}

/** A share between 0 and 1, as `98 %`; what is not quite all is never said to be all. */
export const percent = (share: number) => `${share < 1 ? Math.min(99, Math.round(share * 100)) : 100} %`;
