import { beforeAll, describe, expect, test } from '@jest/globals';
import { readCsv } from '../index/csv.js';
import { loadParser } from '../sql/parser.js';
import { problems, projectOf } from '../testing.js';
import { proposeUpload, rowsFor, uploadTexts } from './reference-upload.js';
import { referenceProblems } from './reference-values.js';

beforeAll(loadParser);

/** What is proposed for a file, a line a column. */
const proposed = (text: string) =>
  proposeUpload(text).columns.map((c) => `${c.name} ${c.type}${c.notNull ? ' not null' : ''}${c.isKey ? ' key' : ''}`);

describe('what is proposed for a file', () => {
  test.each<[string, string, string[]]>([
    ['commas', 'Berth Code,length\nA1,12.5\nA2,\n', ['berth_code text not null key', 'length numeric']],
    [
      'semicolons with commas in numbers',
      'no;t\n1;1.204,50\n2;3,5\n',
      ['no integer not null key', 't numeric not null'],
    ],
    ['tabs', 'a\tb\n1\tx\n1\ty\n', ['a integer not null', 'b text not null key']],
    ['codes with zeros at their beginning', 'code,n\n007,1\n010,1\n', ['code text not null key', 'n integer not null']],
    [
      'dates and truths',
      'd,t,i\n2026-03-01,yes,2026-03-01 10:00\n2026-03-02,no,2026-03-01 11:00\n',
      ['d date not null key', 't boolean not null', 'i timestamptz not null'],
    ],
    ['numbers that are large', 'n\n9999999999\n', ['n bigint not null key']],
    [
      'names that are alike or none',
      'A b,a B,\n1,1,1\n',
      ['a_b integer not null key', 'a_b_2 integer not null', 'column_3 integer not null'],
    ],
    ['nothing but a header', 'a,b\n', ['a text', 'b text']],
    ['a column without values', 'a,b\n1,\n', ['a integer not null key', 'b text']],
  ])('%s', (_, text, expected) => expect(proposed(text)).toEqual(expected));
  test('lines that are no rows are told with their number', () => {
    expect(proposeUpload('a;b\n1;2\n3\n').broken).toEqual([
      { line: 3, message: 'the line has 1 fields, the header 2' },
    ]);
    expect(proposeUpload('a,b\n1,"x\n').broken[0]).toMatchObject({ message: 'a quote is opened and not closed' });
  });
});

describe('rows of a file for a table that is there', () => {
  test.each<[string, string, unknown]>([
    ['in another order', 'rate,code\n2,A\n', { rows: [['A', '2']], leftOut: [] }],
    ['by names in another habit', 'Code,Rate\nA,2\n', { rows: [['A', '2']], leftOut: [] }],
    ['with more and fewer columns', 'code,more\nA,x\n', { rows: [['A', null]], leftOut: ['more'] }],
    ['of another table', 'x,y\n1,2\n', { problem: expect.stringContaining('none of its columns is code, rate') }],
    ['that is broken', 'code,rate\nA\n', { problem: 'line 2: the line has 1 fields, the header 2' }],
  ])('%s', (_, text, expected) => expect(rowsFor(['code', 'rate'], proposeUpload(text))).toEqual(expected));
});

test('the files that are made read as a table of the project, with the same rows', () => {
  const upload = proposeUpload('Rate class;fee;says\nx;1,5;"two ""words"""\ny;2,25;it’s\n');
  const { sql, csv } = uploadTexts('reference.fee', {
    ...upload,
    columns: upload.columns.map((c) => (c.name === 'fee' ? { ...c, comment: "What it's for." } : c)),
  });
  expect(sql).toMatchInlineSnapshot(`
   "create table reference.fee (
     rate_class text,
     fee numeric not null,
     says text not null,
     primary key (rate_class)
   );
   comment on column reference.fee.fee is 'What it''s for.';
   "
  `);
  const project = projectOf({ 'reference/fee.sql': sql, 'reference/fee.csv': csv });
  expect(problems(project).filter((p) => p.includes('reference/fee'))).toEqual([]);
  expect(project.columns.get('reference.fee')?.map((c) => `${c.name} ${c.type}`)).toEqual([
    'rate_class text',
    'fee numeric',
    'says text',
  ]);
  const { header, rows } = readCsv(csv);
  expect(rows).toEqual([
    ['x', '1.5', 'two "words"'],
    ['y', '2.25', 'it’s'],
  ]);
  expect(referenceProblems(upload.columns, header, rows)).toEqual([]);
  // Another type than the values have is told for each of them at once.
  const wrong = upload.columns.map((c) => (c.name === 'says' ? { ...c, type: 'date' } : c));
  expect(referenceProblems(wrong, header, rows).map((p) => p.row)).toEqual([0, 1]);
});
