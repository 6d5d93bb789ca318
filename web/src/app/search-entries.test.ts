import { describe, expect, test } from '@jest/globals';
import type { Entry, EntryGroup } from './entry';
import { search } from './search-entries';

const entry = (group: EntryGroup, label: string): Entry => ({
  key: `${group} ${label}`,
  group,
  label,
  act: () => undefined,
});
const ENTRIES: readonly Entry[] = [
  entry('Tables', 'core.dim_berth'),
  entry('Tables', 'staging.berth'),
  entry('Tables', 'staging.vessel'),
  entry('Commands', 'Go to Quality'),
  entry('Checks', 'berth_code is unique'),
  entry('Columns', 'core.dim_berth.berth_code'),
  entry('Columns', 'staging.vessel.berth_code'),
  entry('Files', 'docs/berths.md'),
];
const labels = (text: string) => search(ENTRIES, text).map((e) => `${e.group}: ${e.label}`);

describe('the finder', () => {
  test.each<[string, string, string[]]>([
    [
      'offers tables and commands before anything is typed',
      '',
      ['Tables: core.dim_berth', 'Tables: staging.berth', 'Tables: staging.vessel', 'Commands: Go to Quality'],
    ],
    [
      'puts names that begin with the text first, group by group',
      'berth',
      [
        'Tables: staging.berth',
        'Tables: core.dim_berth',
        'Columns: core.dim_berth.berth_code',
        'Columns: staging.vessel.berth_code',
        'Checks: berth_code is unique',
        'Files: docs/berths.md',
      ],
    ],
    ['wants every word', 'vessel code', ['Columns: staging.vessel.berth_code']],
    ['finds nothing that is not there', 'tug', []],
  ])('%s', (_, text, expected) => expect(labels(text)).toEqual(expected));

  test('puts exact names before beginnings, these before words of names, and these before the rest', () => {
    const names = ['core.forecast', 'core.dim_cast', 'core.cast_iron', 'core.cast'].map((n) => entry('Tables', n));
    expect(search(names, 'cast').map((e) => e.label)).toEqual([
      'core.cast',
      'core.cast_iron',
      'core.dim_cast',
      'core.forecast',
    ]);
  });
  test('looks in one place alone, and shows what texts say behind what is named', () => {
    const found = [entry('SQL', 'staging/berth.sql'), entry('Notes', 'docs/a.md')];
    const of = (group?: EntryGroup) => search(ENTRIES, 'berth', { group, found }).map((e) => e.label);
    expect(of('SQL')).toEqual(['staging/berth.sql']);
    expect(of('Columns')).toEqual(['core.dim_berth.berth_code', 'staging.vessel.berth_code']);
    expect(of().slice(-3)).toEqual(['docs/a.md', 'staging/berth.sql', 'docs/berths.md']);
    expect(search(ENTRIES, '', { group: 'Checks' }).map((e) => e.label)).toEqual(['berth_code is unique']);
  });
  test('shows eight of each place where several have something', () => {
    const many = (group: EntryGroup) => Array.from({ length: 20 }, (_, i) => entry(group, `core.t_${i}`));
    expect(search([...many('Columns'), ...many('Checks')], 't_').map((e) => e.group)).toEqual([
      ...Array.from({ length: 8 }, () => 'Columns'),
      ...Array.from({ length: 8 }, () => 'Checks'),
    ]);
  });
  test('shows forty at most', () => {
    const many = Array.from({ length: 200 }, (_, i) => entry('Tables', `core.t_${i}`));
    expect(search(many, 't_').length).toBe(40);
    expect(search(many, '').length).toBe(40);
  });
});
