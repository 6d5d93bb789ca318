import { beforeAll, describe, expect, test } from '@jest/globals';
import { impactOf } from '../lineage/impact.js';
import { wayBack } from '../lineage/trace.js';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';

beforeAll(loadParser);

const project = (query: string, table = 'select 1 as k, 2 as l') =>
  readProject(
    new Map([
      ['layers.sql', 'create schema staging; create schema core;'],
      ['staging/t.sql', table],
      ['core/x.sql', query],
    ]),
  );
const twice = (times: number, query: (of: string) => string) =>
  Array.from({ length: times }).reduce<string>((inner) => query(inner), 'select k, l from staging.t');
const chain = (from: string) =>
  `with ${Array.from({ length: 60 }, (_, i) => `c${i} as (select a.k + b.k as k from ${i ? `c${i - 1}` : from} a, ${i ? `c${i - 1}` : from} b)`).join(', ')} select k from c59`;

const WIDE = `select ${Array.from({ length: 1500 }, (_, i) => `${i} as c${i}`).join(', ')}`;
const some = (count: number, text: (i: number) => string) =>
  Array.from({ length: count }, (_, i) => text(i)).join(', ');
const ALL = some(1500, (i) => `c${i}`);

describe('a table of 1,500 columns is taken many times', () => {
  test.each([
    ['as whole rows', `select ${some(9000, (i) => `t::text as a${i}`)} from staging.t t`],
    [
      'by windows',
      `select ${some(9000, (i) => `rank() over w as a${i}`)} from staging.t window w as (partition by ${ALL})`,
    ],
    ['in one row', `select row(${some(20_000, () => 't.*')}) as a from staging.t t`],
    ['in values', `select * from staging.t t, lateral (values (${some(3000, () => 't.*')})) v`],
    ['beside itself', `select 1 as n from ${some(3000, (i) => `staging.t a${i}`)}`],
    [
      'joined by all columns',
      `select 1 as n from staging.t b ${some(300, (i) => `natural join staging.t a${i}`).replaceAll(',', '')}`,
    ],
  ])('%s', (_, query) => {
    // Each took minutes, or a gigabyte, where work or lists were not shared.
    const read = project(query, WIDE);
    expect(read.diagnostics.filter((d) => d.code === 'unreadable')).toEqual([]);
    const influence = new Set((read.columns.get('core.x') ?? []).map((c) => c.influence));
    expect(influence.size).toBeLessThan(3);
  });
});

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
