import { beforeAll, describe, expect, test } from '@jest/globals';
import { readProject } from '../resolve/read-project.js';
import { loadParser } from '../sql/parser.js';
import { meaningAt } from './meaning-at.js';

beforeAll(loadParser);

const QUERY = `create view core.x as
with w as (select b.code as k, b.length_m from staging.berth b)
select w.k, round(w.length_m) as l, "ö" || k as n
from w join staging.berth as other on other.code = w.k, lateral (select 'x' as "ö") q`;
const project = (text = QUERY) =>
  readProject(
    new Map([
      ['layers.sql', 'create schema landing; create schema staging; create schema core;'],
      ['staging/berth.sql', "select 'a' as code, 1.5::numeric(6,1) as length_m"],
      ['core/x.sql', text],
      ['checks/c.sql', 'create view checks.c as select code from staging.berth where length_m < 0'],
    ]),
  );
const shown = (path: string, text: string, word: string) => {
  const found = meaningAt(
    project(path === 'core/x.sql' ? text : undefined),
    path,
    text.indexOf(word) + word.length - 1,
  );
  if (!found) return undefined;
  const { start, end } = found;
  const of = found.kind === 'table' ? found.table : `${found.type} < ${found.origins.join()}`;
  return `${text.slice(start, end)}: ${of}`;
};

describe('what a name means', () => {
  test.each([
    ['a column of a table', 'b.code', 'b.code: text < staging.berth.code'],
    ['a column of a common table expression', 'w.k', 'w.k: text < staging.berth.code'],
    ['inside of a call, behind a letter of two bytes', 'other.code', 'other.code: text < staging.berth.code'],
    ['a table', 'staging.berth', 'staging.berth: staging.berth'],
    ['a column of nothing in the project', '"ö"', '"ö": text < '],
  ])('%s', (_, word, expected) => expect(shown('core/x.sql', QUERY, word)).toBe(expected));
  test.each([
    ['a keyword', 'with'],
    ['a constant', "'x'"],
    ['an alias', 'as other'],
  ])('nothing of %s', (_, word) => expect(shown('core/x.sql', QUERY, word)).toBeUndefined());
  test('also in a check, and nothing in a file that is not there', () => {
    const check = 'create view checks.c as select code from staging.berth where length_m < 0';
    expect(shown('checks/c.sql', check, 'length_m')).toBe('length_m: numeric(6,1) < staging.berth.length_m');
    expect(meaningAt(project(), 'core/none.sql', 3)).toBeUndefined();
  });
});
