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

describe('what is wrong with a CSV is said with its line', () => {
  test.each<[string, string, string[]]>([
    ['fields are missing', 'a,b\n1,2\n3\n', ['3: the line has 1 fields, the header 2']],
    [
      'there are too many, behind a field of three lines',
      'a,b\n"1\n\n2",2\n3,4,5\n',
      ['5: the line has 3 fields, the header 2'],
    ],
    ['a quote is not closed', 'a,b\n"1,2\n', ['2: a quote is opened and not closed']],
    ['text after a quote', 'a,b\n1,2\n"3"x,4\n', ['3: there is text after a closing quote']],
    [
      'a quote inside',
      'a,b\n5" pipe,2\n',
      ['2: a quote inside a field: put the whole field in quotes, and double the quote'],
    ],
    ['empty lines count', 'a,b\n\n\n1\n', ['4: the line has 1 fields, the header 2']],
    ['nothing', '', []],
    ['a mark of the byte order, and lines that end differently', '\ufeffa,b\r\n1,2\r3,4\n', []],
  ])('%s', (_, text, expected) =>
    expect(readCsv(text).problems.map((p) => `${p.line}: ${p.message}`)).toEqual(expected),
  );

  test.each<[string, string, (string | null)[]]>([
    ['beside a value', 'a,b,c\n,"",x\n', [null, '', 'x']],
    ['behind empty lines', 'a,b,c\n\r\n\n"",,""\n', ['', null, '']],
    ['behind a field of quotes, commas and breaks', 'a,b,c\n"""x"",\ny,"""" ",,""\r\n', ['"x",\ny,"" ', null, '']],
  ])('an empty field is null, an empty text in quotes is not: %s', (_, text, row) =>
    expect(readCsv(text)).toMatchObject({ header: ['a', 'b', 'c'], rows: [row] }),
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
