import { beforeAll, expect, test } from '@jest/globals';
import type { Definition } from '../../model/project.js';
import { loadParser } from '../../sql/parser.js';
import { projectOf } from '../../testing.js';
import { loadsInSteps } from './load-steps.js';

beforeAll(loadParser);

const KEYED = "x_key bigint options (role 'surrogate key') primary key, code text";
test.each<[string, string, boolean]>([
  ['a merge', "create table core.x (code text) with (load = merge, business_key = 'code'); select 'a' as code", true],
  ['rows made again', "create table core.x (code text) with (load = rebuild); select 'a' as code", false],
  [
    'rows made again, with numbers',
    `create table core.x (${KEYED}) with (load = rebuild, business_key = 'code'); select 'a' as code`,
    true,
  ],
  ['a view', "create view core.x as select 'a' as code", false],
  ['a query alone', "select 'a' as code", false],
])('whether it loads in steps: %s', (_, text, expected) =>
  expect(loadsInSteps(projectOf({ 'core/x.sql': text }).tables.get('core.x') as Definition)).toBe(expected),
);
