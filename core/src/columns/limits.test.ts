import { beforeAll, describe, expect, test } from '@jest/globals';
import { impactOf } from '../lineage/impact.js';
import { wayBack } from '../lineage/trace.js';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';

beforeAll(loadParser);

const project = (query: string) =>
  readProject(
    new Map([
      ['layers.sql', 'create schema staging; create schema core;'],
      ['staging/t.sql', 'select 1 as k, 2 as l'],
      ['core/x.sql', query],
    ]),
  );
const twice = (times: number, query: (of: string) => string) =>
  Array.from({ length: times }).reduce<string>((inner) => query(inner), 'select k, l from staging.t');
const chain = (from: string) =>
  `with ${Array.from({ length: 60 }, (_, i) => `c${i} as (select a.k + b.k as k from ${i ? `c${i - 1}` : from} a, ${i ? `c${i - 1}` : from} b)`).join(', ')} select k from c59`;

describe('texts that are made to take for ever end soon, and say no wrong thing', () => {
  test.each([
    [
      'recursions in each other',
      twice(
        40,
        (inner) =>
          `with recursive r as (select k, l from staging.t union all select k, l from (${inner}) q join r using (k, l)) select k, l from r`,
      ),
    ],
    ['all columns twice, of queries in each other', twice(30, (inner) => `select q.*, q.* from (${inner}) q`)],
    ['windows that are made from each other', 'select rank() over a as k from staging.t window a as (b), b as (a)'],
    ['a common table expression that takes another twice, and so on', chain('staging.t')],
  ])('%s', (_, query) => {
    const read = project(query);
    expect(read.diagnostics.filter((d) => d.code === 'unreadable')).toEqual([]);
    // Endless, these would be ended by the runner.
    expect(wayBack(read, 'core.x.nothing')).toEqual([]);
    expect(impactOf(read, project(`${query} limit 1`)).breaks).toEqual([]);
  });
});
