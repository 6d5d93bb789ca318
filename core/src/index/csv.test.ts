import { describe, expect, test } from '@jest/globals';
import fc from 'fast-check';
import { csvText, readCsv, readPasted } from './csv.js';
import { referenceProblems } from '../intake/reference-values.js';

test('a CSV that is written is read as it was', () => {
  const text = fc.string().filter((t) => !t.includes('\0') && !t.startsWith('\ufeff'));
  const name = text.filter((t) => t !== '');
  fc.assert(
    fc.property(
      fc
        .integer({ min: 1, max: 4 })
        .chain((n) =>
          fc.tuple(
            fc.array(name, { minLength: n, maxLength: n }),
            fc.array(fc.array(fc.option(text), { minLength: n, maxLength: n }), { maxLength: 5 }),
          ),
        ),
      ([header, rows]) => {
        const read = readCsv(csvText(header, rows));
        expect(read.problems).toEqual([]);
        expect(read.header).toEqual(header);
        // A lone null cannot be told from an empty text where there is one column.
        expect(read.rows).toEqual(header.length === 1 ? rows.map((r) => [r[0] ?? '']) : rows);
      },
    ),
  );
});

describe('what is pasted', () => {
  test.each([
    [
      'a\tb\nc\td',
      [
        ['a', 'b'],
        ['c', 'd'],
      ],
    ],
    ['a\tb\r\n', [['a', 'b']]],
    ['"a\nb"\tc', [['a\nb', 'c']]],
    ['"say ""x"""', [['say "x"']]],
    ['a\t\tb', [['a', '', 'b']]],
    ['alone', [['alone']]],
  ])('%j', (text, expected) => expect(readPasted(text)).toEqual(expected));
});

test('values of a reference table are held against its contract', () => {
  const columns = [
    { name: 'code', type: 'text', notNull: true, isKey: true },
    { name: 'quarter', type: 'date', notNull: true, isKey: true },
    { name: 'target', type: 'integer', notNull: false, isKey: false },
  ];
  const rows = [
    ['NQ', '2026-01-01', '5'],
    ['NQ', '2026-04-01', 'much'],
    [null, '2026-13-01', null],
    ['NQ', '2026-01-01', null],
  ];
  expect(
    referenceProblems(columns, ['code', 'quarter', 'target'], rows).map((p) => `${p.row} ${p.column}: ${p.message}`),
  ).toEqual([
    '2 code: code is never null',
    '2 quarter: “2026-13-01” is not a calendar day',
    '1 target: “much” is not a whole number',
    '3 code: NQ, 2026-01-01 is already in row 1',
  ]);
});
