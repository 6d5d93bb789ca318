import { expect, test } from '@jest/globals';
import { linked } from './note-links';

const tables = new Set(['core.dim_vessel', 'mart.vessel_dues']);

test.each([
  ['see [core.dim_vessel].', 'see [core.dim_vessel](/t/core.dim_vessel).'],
  [
    '[core.dim_vessel] and [mart.vessel_dues]',
    '[core.dim_vessel](/t/core.dim_vessel) and [mart.vessel_dues](/t/mart.vessel_dues)',
  ],
  ['[core.nothing]', '[core.nothing]'],
  ['[core.dim_vessel](https://x.invalid)', '[core.dim_vessel](https://x.invalid)'],
  ['`[core.dim_vessel]`', '`[core.dim_vessel]`'],
  ['```\n[core.dim_vessel]\n```', '```\n[core.dim_vessel]\n```'],
])('%s', (text, expected) => expect(linked(text, (t) => (tables.has(t) ? `/t/${t}` : undefined))).toBe(expected));
