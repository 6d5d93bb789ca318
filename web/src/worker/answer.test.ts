import { beforeAll, beforeEach, describe, expect, test } from '@jest/globals';
import { loadParser } from '@ouvrage/core/sql';
import { answer } from './answer';
import type { Answers, CompletionAnswer, EditAnswer, ProjectSummary } from './protocol';

beforeAll(() => loadParser());

const FILES: Readonly<Record<string, string>> = {
  'layers.sql':
    "create schema landing; comment on schema landing is 'As it came'; create schema reference; create schema staging; create schema core;",
  'parameters.sql': "set param.since = '2026-01-01';",
  'sources/port.sql': `create server port foreign data wrapper postgres_fdw; create server drop foreign data wrapper file_fdw;
create foreign table landing.berth (berth_code text not null, length_m numeric(6,1), primary key (berth_code)) server port;
comment on table landing.berth is 'Places where a vessel can lie';`,
  'reference/rate.csv': 'berth_code,rate\nA,1\n',
  'staging/berth.sql': 'select berth_code, length_m from landing.berth',
  'core/dim_berth.sql': `create table core.dim_berth (
  berth_key bigint options (role 'surrogate key') primary key,
  berth_code text not null,
  length_m numeric(6,1),
  valid_from timestamptz options (role 'valid from') not null,
  valid_to timestamptz options (role 'valid to'),
  is_current boolean options (role 'current flag')
) with (load = history, business_key = 'berth_code', owner = 'harbour master');
select berth_code, length_m from staging.berth;`,
  'adhoc/longest.sql': 'select 1 as one',
};
let summary: ProjectSummary;
beforeEach(() => {
  summary = answer({ kind: 'open', files: FILES }) as ProjectSummary;
});
const edit = (path: string, text: string, others?: Record<string, string>) =>
  answer({ kind: 'edit', path, text, ...(others ? { others } : {}) }) as EditAnswer;

describe('a project is summed up for the interface', () => {
  const of = (name: string) => summary.tables.find((t) => t.fullName === name)!;
  test.each<[string, string, object]>([
    [
      'a source',
      'landing.berth',
      {
        kind: 'source',
        policy: 'intake',
        comment: 'Places where a vessel can lie',
        grain: 'one row per berth_code',
        reads: [],
      },
    ],
    ['a view', 'staging.berth', { kind: 'definition', policy: 'view', hasContract: false, reads: ['landing.berth'] }],
    ['a reference table', 'reference.rate', { kind: 'reference', policy: 'reference', csvPath: 'reference/rate.csv' }],
    [
      'a history',
      'core.dim_berth',
      {
        policy: 'history',
        owner: 'harbour master',
        dimension: { surrogate: 'berth_key', key: ['berth_code'] },
        history: {
          key: ['berth_code'],
          validFrom: 'valid_from',
          validTo: 'valid_to',
          filled: ['berth_key', 'is_current'],
        },
      },
    ],
  ])('%s', (_, name, expected) => expect(of(name)).toMatchObject(expected));

  test('columns say their types, roles, origins and whether they may be null', () => {
    const columns = of('core.dim_berth').columns!;
    expect(columns.find((c) => c.name === 'berth_key')).toMatchObject({
      type: 'bigint',
      role: 'surrogate key',
      isKey: true,
    });
    expect(columns.find((c) => c.name === 'berth_code')).toMatchObject({ notNull: true, isKey: false });
    expect(of('staging.berth').columns).toMatchObject([
      { name: 'berth_code', type: 'text', origins: ['landing.berth.berth_code'] },
      { name: 'length_m', type: 'numeric(6,1)', origins: ['landing.berth.length_m'] },
    ]);
  });
  test('layers, servers of databases, parameters, ad hoc queries and checks', () => {
    expect(summary.layers[0]).toEqual({ name: 'landing', comment: 'As it came' });
    expect(summary.servers).toEqual(['port']);
    expect(summary.parameters).toEqual([{ name: 'since', value: '2026-01-01' }]);
    expect(summary.adhoc).toEqual([{ name: 'longest', path: 'adhoc/longest.sql' }]);
    expect(summary.checks.length).toBeGreaterThan(3);
    expect(summary.checks.every((c) => c.title !== '')).toBe(true);
    expect(summary.diagnostics).toEqual([]);
  });
});

describe('an edit is answered', () => {
  test('with what is wrong in the file, placed, and how many errors it causes elsewhere', () => {
    const { diagnostics, impact } = edit('staging/berth.sql', 'select berth_code,\n  lenght_m from landing.berth');
    expect(diagnostics.map((d) => [d.code, d.line, d.column])).toEqual([['unknown-column', 2, 3]]);
    expect(impact.breaks.map((d) => [d.path, d.line])).toEqual([['core/dim_berth.sql', 9]]);
  });
  test('with the table as it would be', () => {
    const { table, diagnostics } = edit('staging/berth.sql', 'select berth_code, length_m, 1 as n from landing.berth');
    expect(diagnostics).toEqual([]);
    expect(table!.columns!.map((c) => c.name)).toEqual(['berth_code', 'length_m', 'n']);
  });
  test('with its contract, where it has one', () => {
    expect(edit('core/dim_berth.sql', FILES['core/dim_berth.sql']!).contract).toMatchObject({ policy: 'history' });
    expect(edit('checks/x.sql', 'select 1').contract).toBeUndefined();
  });
  test('one file at a time: what was typed in another one before does not count', () => {
    edit('staging/berth.sql', 'select 1 as nothing');
    expect(edit('core/dim_berth.sql', FILES['core/dim_berth.sql']!).diagnostics).toEqual([]);
  });
  test('together with others, where they are given', () => {
    const { diagnostics } = edit('core/dim_berth.sql', FILES['core/dim_berth.sql']!, {
      'staging/berth.sql': 'select berth_code from landing.berth',
    });
    expect(diagnostics.map((d) => d.code)).toContain('unknown-column');
  });
  test('a file of a new path is added, and one that is opened again is reread', () => {
    expect(edit('staging/new.sql', 'select berth_code from landing.berth').table?.fullName).toBe('staging.new');
    const again = answer({
      kind: 'open',
      files: { ...FILES, 'staging/berth.sql': 'select 1 as one' },
    }) as ProjectSummary;
    expect(again.diagnostics.map((d) => d.path)).toContain('core/dim_berth.sql');
  });
});

describe('questions about a text', () => {
  test('a contract is edited in its text, or the reason why not', () => {
    const text = FILES['core/dim_berth.sql']!;
    const change = (edits: object[]) =>
      answer({ kind: 'contract', path: 'core/dim_berth.sql', text, edits: edits as never }) as Answers['contract'];
    expect(change([{ kind: 'table option', option: 'owner', value: 'pilots' }])).toMatchObject({
      text: expect.stringContaining('owner = pilots') as never,
    });
    expect(change([{ kind: 'type', column: 'nothing', type: 'text' }])).toHaveProperty('problem');
  });
  test('names are completed, and options explained', () => {
    const text = 'select b. from landing.berth b';
    const { options } = answer({ kind: 'complete', path: 'staging/x.sql', text, offset: 9 }) as CompletionAnswer;
    expect(options.map((o) => o.label)).toEqual(expect.arrayContaining(['berth_code', 'length_m']));
    const at = FILES['core/dim_berth.sql']!.indexOf('business_key') + 2;
    expect(
      answer({ kind: 'explain', path: 'core/dim_berth.sql', text: FILES['core/dim_berth.sql']!, offset: at }),
    ).toMatchObject({
      title: 'business_key',
    });
    expect(answer({ kind: 'explain', path: 'staging/berth.sql', text: 'select 1', offset: 2 })).toBeNull();
  });
});

describe('what a name in a query means', () => {
  const FILE = 'core/dim_berth.sql';
  const at = (text: string, word: string) =>
    answer({ kind: 'explain', path: FILE, text, offset: text.lastIndexOf(word) + 1 });
  test('a column says its type, its description and where it comes from', () => {
    void answer({
      kind: 'open',
      files: {
        ...FILES,
        'sources/port.sql': `${FILES['sources/port.sql']}\ncomment on column landing.berth.length_m is 'Along the quay.';`,
      },
    });
    const text = FILES[FILE]!;
    expect(at(text, 'length_m')).toMatchObject({
      title: 'length_m numeric(6,1)',
      help: 'Along the quay. From staging.berth.length_m.',
      target: { table: 'staging.berth', column: 'length_m' },
    });
    expect(at(text, 'staging.berth')).toMatchObject({ title: 'staging.berth', target: { table: 'staging.berth' } });
    expect(at(`${text} -- nothing`, 'nothing')).toBeNull();
  });
  test('what values bring with them is told of the columns that carry it', () => {
    const summary = answer({
      kind: 'open',
      files: {
        ...FILES,
        'sources/port.sql': `${FILES['sources/port.sql']}\ncomment on column landing.berth.length_m is 'Along the quay.';`,
      },
    }) as ProjectSummary;
    const column = summary.tables
      .find((t) => t.fullName === 'core.dim_berth')!
      .columns!.find((c) => c.name === 'length_m')!;
    expect(column.carried).toEqual({ text: 'Along the quay.', from: { table: 'landing.berth', column: 'length_m' } });
  });
});
