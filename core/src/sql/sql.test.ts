import { beforeAll, describe, expect, test } from '@jest/globals';
import fc from 'fast-check';
import { scanSync } from 'libpg-query';
import { applyEdits } from './edits.js';
import { didYouMean, editDistance } from './nearest.js';
import { loadParser, parseSql } from './parser.js';
import { byteToCharacter, lineColumn } from './positions.js';
import { boundedName, formerlyBounded, ident, literal } from './quote.js';
import { nameOf, tokenize, withoutLayout } from './tokens.js';
import { keepsValues, narrows, unifiedType, shortType } from './types.js';

beforeAll(loadParser);

describe('tokens', () => {
  const pieces = [
    'select',
    ' ',
    '\n',
    'a.b',
    '"q""x"',
    "'it''s'",
    "E'\\'x'",
    '$$ body $$',
    '$t$ $$ $t$',
    '-- note\n',
    '/* a /* b */ c */',
    '1.5e3',
    '.5',
    '42',
    '::',
    '<=',
    '>-- c\n',
    '(',
    ')',
    ',',
    ';',
    '$1',
    'é',
    "'ü'",
    '@>',
    "x'1F'",
    ':=',
  ];
  test('agree with the parser’s own scanner on random texts', () => {
    fc.assert(
      fc.property(fc.array(fc.constantFrom(...pieces), { maxLength: 25 }), (parts) => {
        const text = parts.join(' , ');
        fc.pre(text.trim() !== '');
        const toCharacter = byteToCharacter(text);
        const expected = scanSync(text).tokens.map((t) => [toCharacter(t.start), toCharacter(t.end)]);
        expect(tokenize(text).map((t) => [t.start, t.end])).toEqual(expected);
      }),
      { numRuns: 400, seed: 7 },
    );
  });

  test.each([
    ['select 1 -- x', 'SELECT  1', true],
    ['select /* y */ a from b', 'select a\nfrom b', true],
    ["select 'A'", "select 'a'", false],
    ['select "A"', 'select a', false],
    ['select a b', 'select ab', false],
  ])('%s and %s are the same without layout: %s', (a, b, same) => {
    expect(withoutLayout(a) === withoutLayout(b)).toBe(same);
  });

  test('names are folded or unquoted', () => {
    expect(tokenize('Berth "Be""rth"').map(nameOf)).toEqual(['berth', 'Be"rth']);
  });
});

describe('positions', () => {
  test('bytes become characters', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary', maxLength: 40 }), (text) => {
        const at = byteToCharacter(text);
        let bytes = 0;
        let characters = 0;
        for (const symbol of text) {
          expect(at(bytes)).toBe(characters);
          bytes += Buffer.byteLength(symbol);
          characters += symbol.length;
        }
        expect(at(bytes)).toBe(text.length);
      }),
      { seed: 3 },
    );
  });
  test.each([
    ['a\nbc', 0, 1, 1],
    ['a\nbc', 2, 2, 1],
    ['a\nbc', 4, 2, 3],
  ])('offset in %j', (text, offset, line, column) => {
    expect(lineColumn(text, offset)).toEqual({ line, column });
  });
});

describe('parser', () => {
  test.each([
    ['select a frm b c', 'b'],
    ["select 'é' as x frm\nb where", 'frm'],
    ['select (', ''],
    ['selct 1', 'selct'],
  ])('a syntax error in %j is at %j', (sql, word) => {
    const { error, statements } = parseSql(sql);
    expect(statements).toEqual([]);
    expect(sql.slice(error!.range.start, error!.range.end)).toBe(word);
  });
  test('statements have character ranges', () => {
    const text = "-- é\nselect 'ü' as a ;\n select 2";
    expect(parseSql(text).statements.map((s) => text.slice(s.start, s.end).trim())).toEqual([
      "select 'ü' as a",
      'select 2',
    ]);
  });
  test('a text of comments has no statement', () => expect(parseSql('-- nothing\n').statements).toEqual([]));
});

describe('quoting', () => {
  test('names and values survive a round trip through the parser', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme', minLength: 1 }), fc.string({ unit: 'grapheme' }), (name, value) => {
        fc.pre(!name.includes('\u0000') && !value.includes('\u0000'));
        const node = parseSql(`select ${literal(value)} as ${ident(name)}`).statements[0]!.node as never as {
          SelectStmt: { targetList: [{ ResTarget: { name: string; val: { A_Const: { sval: { sval?: string } } } } }] };
        };
        const target = node.SelectStmt.targetList[0].ResTarget;
        expect(target.name).toBe(name);
        expect(target.val.A_Const.sval.sval ?? '').toBe(value);
      }),
      { seed: 5 },
    );
  });
  test('long names stay within 63 bytes and keep their mark', () => {
    const name = boundedName('é'.repeat(60), '~next');
    expect(Buffer.byteLength(name)).toBeLessThanOrEqual(63);
    expect(name.endsWith('~next')).toBe(true);
    const [one, other] = ['one', 'other'].map((end) => boundedName(`${'x'.repeat(58)}${end}`, '~events'));
    expect(one).not.toBe(other);
    expect(formerlyBounded(`${'x'.repeat(58)}one`, '~events')).toBe(`${'x'.repeat(56)}~events`);
    expect([boundedName('x'.repeat(58), '~keys'), formerlyBounded('x'.repeat(58), '~keys')]).toEqual([
      `${'x'.repeat(58)}~keys`,
      undefined,
    ]);
  });
});

test('edits are applied and lead back', () => {
  const { text, original } = applyEdits('select a from b.c where x', [{ start: 14, end: 17, text: '"w"."c"' }]);
  expect(text).toBe('select a from "w"."c" where x');
  expect([0, 7, 14, 18, 28].map(original)).toEqual([0, 7, 14, 14, 24]);
});

test.each([
  ['berht', ['berth', 'call'], 'did you mean berth?'],
  ['vessel_nam', ['vessel_name', 'hull_no'], 'did you mean vessel_name?'],
  ['xyz', ['berth', 'call'], undefined],
])('nearest name to %s', (wrong, names, expected) => expect(didYouMean(wrong, names)).toBe(expected));

test('neighbours swapped are one edit', () => expect(editDistance('ab', 'ba')).toBe(1));

test.each([
  ['timestamp with time zone', 'timestamptz'],
  ['timestamp(3) without time zone', 'timestamp(3)'],
  ['character varying(20)', 'varchar(20)'],
  ['numeric(10,1)', 'numeric(10,1)'],
  ['double precision', 'double precision'],
  ['text[]', 'text[]'],
])('%s is written %s', (from, to) => expect(shortType(from)).toBe(to));

test.each<[string, string, 'keeps' | 'narrows' | 'may lose']>([
  ['integer', 'integer', 'keeps'],
  ['integer', 'bigint', 'keeps'],
  ['bigint', 'integer', 'narrows'],
  ['integer', 'numeric(12,2)', 'keeps'],
  ['bigint', 'numeric(12,2)', 'may lose'],
  ['numeric(9,0)', 'integer', 'keeps'],
  ['numeric(10,0)', 'integer', 'narrows'],
  ['numeric(5,2)', 'integer', 'narrows'],
  ['numeric(10,2)', 'numeric(12,2)', 'keeps'],
  ['numeric(10,2)', 'numeric(11,3)', 'keeps'],
  ['numeric(10,2)', 'numeric(10,3)', 'narrows'],
  ['numeric(10,2)', 'numeric(12,1)', 'narrows'],
  ['numeric(10,2)', 'numeric', 'keeps'],
  ['numeric', 'numeric(38,10)', 'narrows'],
  ['varchar(3)', 'varchar(4)', 'keeps'],
  ['varchar(3)', 'varchar(2)', 'narrows'],
  ['varchar', 'varchar(2)', 'narrows'],
  ['varchar(3)', 'text', 'keeps'],
  ['text', 'varchar(3)', 'narrows'],
  ['text', 'character(3)', 'narrows'],
  ['uuid', 'text', 'keeps'],
  ['text', 'uuid', 'may lose'],
  ['date', 'timestamptz', 'keeps'],
  ['timestamptz', 'date', 'may lose'],
  ['double precision', 'numeric(10,2)', 'may lose'],
])('%s as %s: %s', (from, to, expected) =>
  expect(keepsValues(from, to) ? 'keeps' : narrows(from, to) ? 'narrows' : 'may lose').toBe(expected),
);

describe('one lattice of types', () => {
  const NUMBERS = [
    'smallint',
    'integer',
    'bigint',
    'numeric',
    'numeric(5,2)',
    'numeric(12,4)',
    'numeric(1000,500)',
    'real',
    'double precision',
  ];
  const TIMES = ['date', 'timestamp', 'timestamp(3)', 'timestamptz', 'timestamptz(0)', 'time', 'time(3)', 'timetz'];
  const TYPES = [
    ...NUMBERS,
    ...TIMES,
    'text',
    'varchar',
    'varchar(5)',
    'character(5)',
    'boolean',
    'uuid',
    'jsonb',
    'integer[]',
    'numeric(5,2)[]',
    'constructor',
  ];
  const pairs = TYPES.flatMap((a) => TYPES.map((b) => [a, b] as const));
  test.each(pairs)('%s and %s', (a, b) => {
    const both = unifiedType([a, b]);
    expect(unifiedType([b, a])).toBe(both);
    if (both !== undefined) expect([both, keepsValues(a, both), keepsValues(b, both)]).toEqual([both, true, true]);
  });
  test.each([
    [['bigint', 'double precision'], undefined],
    [['numeric(5,2)', 'real'], undefined],
    [['integer', 'real'], 'double precision'],
    [['varchar(5)', 'varchar(9)'], 'varchar(9)'],
    [['varchar(5)', 'varchar'], 'text'],
    [['integer', 'double precision'], 'double precision'],
    [['numeric(5,2)', 'numeric(6,4)'], 'numeric(7,4)'],
    [['smallint', 'numeric(3,2)'], 'numeric(7,2)'],
    [['varchar(5)', 'character(3)'], 'text'],
    [['timestamp(0)', 'timestamp(3)'], 'timestamp(3)'],
    [['date', 'timestamptz(3)'], 'timestamptz(3)'],
    [['integer', 'text'], undefined],
    [['integer', undefined], undefined],
    [[], undefined],
  ])('%j: %s', (types, expected) => expect(unifiedType(types)).toBe(expected));
});

test('a banded distance is the whole one, up to its limit', () => {
  const plain = (a: string, b: string): number => {
    const d = Array.from({ length: a.length + 1 }, (_, i) =>
      Array.from({ length: b.length + 1 }, (_, j) => (i === 0 ? j : j === 0 ? i : 0)),
    );
    for (let i = 1; i <= a.length; i++)
      for (let j = 1; j <= b.length; j++) {
        d[i]![j] = Math.min(d[i - 1]![j]! + 1, d[i]![j - 1]! + 1, d[i - 1]![j - 1]! + (a[i - 1] === b[j - 1] ? 0 : 1));
        if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1])
          d[i]![j] = Math.min(d[i]![j]!, d[i - 2]![j - 2]! + 1);
      }
    return d[a.length]![b.length]!;
  };
  let state = 7;
  const next = (below: number) => (state = (state * 1103515245 + 12345) % 2147483648) % below;
  const word = () => Array.from({ length: next(9) }, () => 'abc'[next(3)]).join('');
  for (let n = 0; n < 3000; n++) {
    const [a, b, limit] = [word(), word(), 1 + next(6)];
    expect([a, b, editDistance(a, b)]).toEqual([a, b, plain(a, b)]);
    expect([a, b, limit, editDistance(a, b, limit)]).toEqual([a, b, limit, Math.min(limit, plain(a, b))]);
  }
});
