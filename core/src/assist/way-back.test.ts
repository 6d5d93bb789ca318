import { beforeAll, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { rename } from './rename.js';
import type { Renaming } from './rename-edits.js';
import { formerNamesBack } from './way-back.js';

beforeAll(loadParser);

const BERTH = `create table core.dim_berth (
  berth_code text primary key,
  -- In metres.
  length_m numeric(6,1)
) with (load = merge, business_key = 'berth_code');
select b.berth_code, b.length_m from staging.berth b;`;
const EARLIER = { 'core/dim_berth.sql': BERTH };

/** The project after renames. */
function renamed(
  files: Readonly<Record<string, string>>,
  ...renamings: readonly Renaming[]
): Readonly<Record<string, string>> {
  return renamings.reduce((now, renaming) => {
    const result = rename(projectOf(now), renaming);
    if ('obstacles' in result) throw new Error(JSON.stringify(result.obstacles));
    const after = new Map(result.files.map((f) => [f.path, f.after]));
    const texts = new Map<string, string | null>([...Object.entries(now), ...after]);
    return Object.fromEntries([...texts].filter((entry): entry is [string, string] => entry[1] !== null));
  }, files);
}

const COLUMN: Renaming = { kind: 'column', table: 'core.dim_berth', column: 'length_m', to: 'length' };
const TABLE: Renaming = { kind: 'table', table: 'core.dim_berth', to: 'core.berth' };

test.each<[string, readonly Renaming[], Readonly<Record<string, string>>]>([
  ['nothing was renamed', [], {}],
  [
    'a column was',
    [COLUMN],
    { 'core/dim_berth.sql': BERTH.replace('numeric(6,1)', "numeric(6,1) options (was 'length')") },
  ],
  [
    'a table was',
    [TABLE],
    { 'core/dim_berth.sql': BERTH.replace("'berth_code')", "'berth_code', was = 'core.berth')") },
  ],
  [
    'both were',
    [COLUMN, TABLE],
    {
      'core/dim_berth.sql': BERTH.replace('numeric(6,1)', "numeric(6,1) options (was 'length')").replace(
        "'berth_code')",
        "'berth_code', was = 'core.berth')",
      ),
    },
  ],
])('a way back to where %s', (_, renamings, texts) => {
  const now = projectOf(renamed(EARLIER, ...renamings));
  expect(Object.fromEntries(formerNamesBack(projectOf(EARLIER), now))).toEqual(texts);
});

test('what is renamed there and back is named after what it was called in between: production may have either', () => {
  const back = renamed(EARLIER, COLUMN, { ...COLUMN, column: 'length', to: 'length_m' }, TABLE, {
    ...TABLE,
    table: 'core.berth',
    to: 'core.dim_berth',
  });
  expect(back['core/dim_berth.sql']).toContain("length_m numeric(6,1) options (was 'length')\n");
  expect(back['core/dim_berth.sql']).toContain("with (was = 'core.berth', load = merge");
});

test.each<[string, string]>([
  [
    'a column that was dropped is none that was renamed',
    BERTH.replace(',\n  -- In metres.\n  length_m numeric(6,1)', '').replace(', b.length_m', ''),
  ],
  [
    'a former name that was there before says nothing',
    BERTH.replace('numeric(6,1)', "numeric(6,1) options (was 'long')"),
  ],
  [
    'a column beside the one whose name it claims',
    BERTH.replace('numeric(6,1)', "numeric(6,1),\n  wide numeric options (was 'length_m')"),
  ],
])('%s', (_, text) => {
  expect(formerNamesBack(projectOf(EARLIER), projectOf({ 'core/dim_berth.sql': text })).size).toBe(0);
});
