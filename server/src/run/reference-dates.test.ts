import { beforeAll, expect, test } from '@jest/globals';
import type { ReferenceTable } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import { loadParser } from '@ouvrage/core/sql';
import { checkLongDates } from './reference-dates.js';

beforeAll(() => loadParser());

const tableOf = (csv: string) =>
  readProject(
    new Map([
      ['layers.sql', 'create schema reference;'],
      ['reference/rate.csv', csv],
      ['reference/rate.sql', 'create table reference.rate (name text, since date, at timestamptz);'],
    ]),
  ).tables.get('reference.rate') as ReferenceTable;

const HEADER = 'name,since,at';
const many = (last: string) =>
  [HEADER, ...Array.from({ length: 5000 }, (_, i) => `"a, ${i}\nb",2026-02-28,2026-02-28 10:00+01`), last].join('\n');

test.each<[string, string, string | undefined]>([
  ['ISO dates, and none', many('x,,'), undefined],
  ['a date that depends on settings', many('x,03/04/2024,'), 'reference/rate.csv, line 10002: since: “03/04/2024” '],
  ['an instant that is none', many('x,2026-01-01,tomorrow'), 'reference/rate.csv, line 10002: at: “tomorrow” '],
])('%s', async (_, csv, message) => {
  const table = tableOf(csv);
  const checked = checkLongDates(table, csv, 1000);
  await (message === undefined ? expect(checked).resolves.toBeUndefined() : expect(checked).rejects.toThrow(message));
  // Short files are looked through with the project.
  await expect(checkLongDates(table, csv)).resolves.toBeUndefined();
});
