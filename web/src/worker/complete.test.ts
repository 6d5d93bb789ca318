import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '@ouvrage/core/resolve';
import { loadParser } from '@ouvrage/core/sql';
import { complete, completeLink } from './complete';
import { summarize } from './summary';

const FILES: Record<string, string> = {
  'layers.sql': 'create schema landing; create schema staging;',
  'sources/s.sql': `create server s foreign data wrapper postgres_fdw;
create foreign table landing.berth (berth_code text not null, length_m numeric(6,1), primary key (berth_code)) server s;
create foreign table landing.call (call_no text, berth_code text) server s;
create foreign table landing.stay (stay_no text, lies_at text, berth_code text, foreign key (lies_at) references landing.berth (berth_code)) server s;
comment on foreign table landing.berth is 'Places to lie.';`,
  'staging/dim_berth.sql': `create table staging.dim_berth (
  berth_key bigint options (role 'surrogate key') primary key,
  berth_code text not null,
  valid_from timestamptz options (role 'valid from') not null,
  valid_to timestamptz options (role 'valid to'),
  is_current boolean options (role 'current flag') not null
) with (load = history, business_key = 'berth_code');
select berth_code from landing.berth;`,
  'staging/berth.sql':
    "select berth_code from landing.berth; comment on column staging.berth.berth_code is 'The berth.'",
};
let project: ReturnType<typeof readProject>;
beforeAll(async () => {
  await loadParser();
  project = readProject(new Map(Object.entries(FILES)));
});

/** Labels offered at the mark | of a text. */
const offered = (marked: string) =>
  complete(project, marked.replace('|', ''), marked.indexOf('|'))?.options.map((o) => o.label);

describe('links of a note', () => {
  test.each<[string, string, string[] | undefined]>([
    [
      'tables behind a bracket',
      'See [',
      ['landing.berth', 'landing.call', 'landing.stay', 'staging.dim_berth', 'staging.berth'],
    ],
    ['columns behind a table', 'See [landing.call.', ['call_no', 'berth_code']],
    ['nothing outside of brackets', 'See landing.', undefined],
  ])('%s', (_, text, expected) => {
    const found = completeLink(project, text, text.length)?.options.map((o) => o.label);
    expect(found?.sort()).toEqual(expected?.sort());
  });
});

describe('completion', () => {
  test.each<[string, string, string[]]>([
    ['columns behind an alias', 'select b.| from landing.berth b', ['berth_code', 'length_m']],
    ['columns behind a table’s own name', 'select berth.le| from landing.berth', ['berth_code', 'length_m']],
    ['tables of a layer', 'select 1 from landing.|', ['berth', 'call', 'stay']],
    [
      'columns of a common table expression',
      'with c as (select call_no as n from landing.call) select c.| from c',
      ['n'],
    ],
    ['columns in a subquery', 'select x from (select q.| from landing.call q) s', ['call_no', 'berth_code']],
    ['columns of a join', 'select k.| from landing.berth b join landing.call k on true', ['call_no', 'berth_code']],
  ])('%s', (_, marked, labels) => expect(offered(marked)).toEqual(labels));

  test.each<[string, string, string[]]>([
    [
      'what is declared, then keys',
      'select 1 from landing.stay s join landing.berth b on |',
      ['b.berth_code = s.lies_at', 'b.berth_code = s.berth_code'],
    ],
    [
      'the other way round',
      'select 1 from landing.berth join landing.stay on |',
      ['stay.lies_at = berth.berth_code', 'stay.berth_code = berth.berth_code'],
    ],
    [
      'the current version first',
      'select 1 from landing.call c join staging.dim_berth b on | where true',
      ['b.berth_code = c.berth_code and b.is_current', 'b.berth_code = c.berth_code'],
    ],
    [
      'columns of one name, where nothing is declared',
      'select 1 from landing.call c left join (select * from landing.stay) s on |',
      ['s.berth_code = c.berth_code'],
    ],
    [
      'of all that is joined before',
      'select 1 from landing.call c, landing.stay s join landing.berth b on |',
      ['b.berth_code = s.lies_at', 'b.berth_code = c.berth_code', 'b.berth_code = s.berth_code'],
    ],
  ])('behind ON: %s', (_, marked, labels) => expect(offered(marked)).toEqual(labels));
  test('tables and common table expressions behind from', () => {
    const labels = offered('with recent as (select 1 as one) select * from |');
    expect(labels).toContain('recent');
    expect(labels).toContain('landing.berth');
  });
  test('columns in scope come before keywords', () =>
    expect(offered('select | from landing.call c')?.slice(0, 3)).toEqual(['call_no', 'berth_code', 'c']));
  test('nothing behind a name that is unknown', () =>
    expect(offered('select z.| from landing.call c')).toBeUndefined());
});

test('a summary has what the bench shows', () => {
  const { tables, diagnostics } = summarize(project);
  expect(diagnostics).toEqual([]);
  expect(tables.find((t) => t.fullName === 'landing.berth')).toMatchObject({
    kind: 'source',
    policy: 'intake',
    grain: 'one row per berth_code',
    comment: 'Places to lie.',
  });
  expect(tables.find((t) => t.fullName === 'staging.berth')?.columns).toEqual([
    {
      name: 'berth_code',
      type: 'text',
      origins: ['landing.berth.berth_code'],
      comment: 'The berth.',
      isKey: false,
      notNull: false,
    },
  ]);
});
