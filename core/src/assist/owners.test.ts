import { beforeAll, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { unknownOwners } from './owners.js';

beforeAll(() => loadParser());

const NAMES = ['harbour master', 'Mira Okafor', 'mira'];

test.each([
  ['a desk', 'Harbour Master', []],
  ['a person by the name that is shown', 'Mira Okafor', []],
  [
    'nobody, with the nearest',
    'harbor master',
    ['option owner: harbor master is neither a desk nor a person (did you mean harbour master?)'],
  ],
  [
    'nobody at all',
    'x',
    ['option owner: x is neither a desk nor a person (an administrator adds desks under Settings)'],
  ],
])('%s', (_, owner, expected) => {
  const text = `create table core.t (n integer) with (owner = '${owner}');\nselect 1 as n;`;
  const project = projectOf({ 'core/t.sql': text, 'core/u.sql': text.replace('core.t', 'core.u') });
  const found = unknownOwners(project, 'core/t.sql', NAMES);
  expect(found.map((d) => `${d.message} (${d.hint})`)).toEqual(expected);
  for (const d of found) expect([d.severity, text.slice(d.range.start, d.range.end)]).toEqual(['warning', 'owner']);
});

test('one for a fan-out, none for a table without an owner', () => {
  const project = projectOf({
    'core/e.sql': `create table core.e (n integer) with (for_each = 'reference.flag', each_schema = 'x_{flag_code}', owner = 'nobody');\nselect 1 as n;`,
  });
  expect(unknownOwners(project, 'core/e.sql', NAMES)).toHaveLength(1);
  expect(unknownOwners(project, 'core/fact_call.sql', NAMES)).toEqual([]);
});
