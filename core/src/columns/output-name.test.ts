import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser, parseSql } from '../sql/parser.js';
import { outputName } from './output-name.js';

beforeAll(() => loadParser());

/** The names that PostgreSQL 15 gives to columns without `as`; each was asked of it. */
function nameOf(expression: string): string {
  const [statement] = parseSql(`select ${expression}`).statements;
  const select = statement && 'SelectStmt' in statement.node ? statement.node.SelectStmt : undefined;
  const item = select?.targetList?.[0];
  return item && 'ResTarget' in item && item.ResTarget.val ? outputName(item.ResTarget.val) : '';
}

describe('a column without a name is called', () => {
  test.each<[string, string]>([
    ['a', 'a'],
    ['t.a', 'a'],
    ['(t.c).f', 'f'],
    ['a[1]', 'a'],
    ['1', '?column?'],
    ['a + 1', '?column?'],
    ['a is null', '?column?'],
    ['lower(a)', 'lower'],
    ['s.f(a)', 'f'],
    ['a::text', 'a'],
    ["'1'::numeric(4,1)", 'numeric'],
    ['lower(a)::text', 'lower'],
    ['(a + 1)::bigint', 'int8'],
    ['a collate "C"', 'a'],
    ['\'x\' collate "C"', '?column?'],
    ['case when a then b else c end', 'c'],
    ['case when a then b end', 'case'],
    ['case when a then 1 else 2 end', 'case'],
    ['case when a then 1 else 2::integer end', 'case'],
    ["'1'::numeric(4,1)::text", 'text'],
    ['(select 1::integer)', 'int4'],
    ['(values (1))', 'column1'],
    ['array[1, 2]', 'array'],
    ['array(select a from t)', 'array'],
    ['row(1, 2)', 'row'],
    ['coalesce(a, b)', 'coalesce'],
    ['nullif(a, b)', 'nullif'],
    ['least(a, b)', 'least'],
    ['greatest(a, b)', 'greatest'],
    ['exists (select 1)', 'exists'],
    ['(select a from t)', 'a'],
    ['(select a as b from t)', 'b'],
    ['(select 1)', '?column?'],
    ['(select count(*) from t)', 'count'],
    ['grouping(a)', 'grouping'],
    ['current_date', 'current_date'],
    ['current_timestamp(0)', 'current_timestamp'],
    ['xmlelement(name a)', 'xmlelement'],
    ['count(*) filter (where a) over ()', 'count'],
  ])('%s: %s', (expression, expected) => expect(nameOf(expression)).toBe(expected));
});
