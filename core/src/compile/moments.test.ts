import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import type { Definition } from '../model/project.js';
import { compileFunction, compileText, type Names } from './compile.js';

beforeAll(() => loadParser());

const NAMES = { placeOf: () => undefined, functionsSchema: 'functions', now: '2026-01-02T03:04:05Z' };
const T = "timestamptz '2026-01-02T03:04:05Z'";

describe('the time of a query that is given', () => {
  test.each([
    ['current_date', `(select cast(${T} as date) as "current_date")`],
    ['CURRENT_TIMESTAMP', `(select cast(${T} as timestamptz) as "current_timestamp")`],
    ['current_timestamp ( 3 )', `(select cast(${T} as timestamptz( 3 )) as "current_timestamp")`],
    ['current_time', `(select cast(${T} as timetz) as "current_time")`],
    ['localtime(0)', `(select cast(${T} as time(0)) as "localtime")`],
    ['localtimestamp', `(select cast(${T} as timestamp) as "localtimestamp")`],
    ['now()', `(select cast(${T} as timestamptz) as "now")`],
    ['pg_catalog.now ()', `(select cast(${T} as timestamptz) as "now")`],
    ['clock_timestamp()', `(select cast(${T} as timestamptz) as "clock_timestamp")`],
    [
      'statement_timestamp() - transaction_timestamp()',
      `(select cast(${T} as timestamptz) as "statement_timestamp") - (select cast(${T} as timestamptz) as "transaction_timestamp")`,
    ],
    ['current_user', 'current_user'],
    ["'now()'", "'now()'"],
    ['core.now()', 'core.now()'],
    ['random()', 'random()'],
  ])('%s', (written, compiled) => {
    const project = projectOf({ 'mart/t.sql': `select ${written} as x from staging.call` });
    const table = project.tables.get('mart.t') as Definition;
    const file = project.files.get('mart/t.sql')!;
    const text = (names: Names) => compileText(file, table.query!, table.query!, names).text;
    expect(text(NAMES)).toBe(`select ${compiled} as x from "staging.call" as "call"`);
    const { now: _, ...withoutTime } = NAMES;
    expect(text(withoutTime)).toBe(`select ${written} as x from "staging.call" as "call"`);
  });

  test.each([
    ['a body of SQL', 'return current_date', `return (select cast(${T} as date) as "current_date")`],
    [
      'a body between dollars',
      'as $$ select now()::date $$',
      `as $$ select (select cast(${T} as timestamptz) as "now")::date $$`,
    ],
    ['a body between quotes, where nothing can be put', `as 'select now()::date'`, `as 'select now()::date'`],
  ])('of a function: %s', (_, body, compiled) => {
    const text = `create function functions.today() returns date language sql stable ${body};`;
    const project = projectOf({ 'functions/today.sql': text });
    const f = project.functions.get('today')!;
    expect(compileFunction(project, f, NAMES)).toContain(compiled);
    expect(f.moments.map((m) => m.kind)).toEqual([body.startsWith("as '") ? 'volatile' : 'time']);
  });
});
