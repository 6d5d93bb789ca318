import { beforeAll, describe, expect, test } from '@jest/globals';
import { loadParser } from '../sql/parser.js';
import { BASE_FILES, changed, problems, projectOf } from '../testing.js';
import { fingerprints } from '../graph/fingerprint.js';
import { layersInOrder, layerStatements } from '../assist/layer-order.js';
import { withParameterValues } from '../assist/parameter-values.js';
import { readProject } from './read-project.js';
import { readCsv } from '../index/csv.js';
import type { Definition } from '../model/project.js';

beforeAll(loadParser);

const names = (project: ReturnType<typeof projectOf>, table: string) => project.columns.get(table)?.map((c) => c.name);

describe('a sound project', () => {
  test('has no diagnostics, and an order', () => {
    const project = projectOf();
    expect(problems(project)).toEqual([]);
    expect(project.order.indexOf('core.fact_call')).toBeGreaterThan(project.order.indexOf('staging.berth'));
    expect(project.reads.get('core.fact_call')).toEqual(['staging.call', 'staging.berth']);
    expect(project.layers.map((l) => l.name)).toEqual(['landing', 'reference', 'staging', 'core', 'mart']);
  });
  test('columns carry types and origins', () => {
    expect(projectOf().columns.get('core.fact_call')).toEqual([
      { name: 'call_no', type: 'text', origins: ['staging.call.call_no'], influence: [], kind: 'copied' },
      { name: 'length_m', type: 'numeric(6,1)', origins: ['staging.berth.length_m'], influence: [], kind: 'copied' },
      { name: 'tonnage', type: 'numeric(12,2)', origins: ['staging.call.tonnage'], influence: [], kind: 'copied' },
    ]);
  });
});

describe('diagnostics name the place and the remedy', () => {
  const staging = (sql: string) => ({ 'staging/x.sql': sql });
  test.each<[string, Record<string, string | null>, string[]]>([
    ['syntax', staging('select a\nfrom landing.berth wher b'), ['staging/x.sql [b] syntax error at or near "b"']],
    [
      'unknown table',
      staging('select 1 as a from landing.brth'),
      ['staging/x.sql [landing.brth] layer landing has no table brth (did you mean landing.berth?)'],
    ],
    [
      'unknown layer',
      staging('select 1 as a from lnding.berth'),
      ['staging/x.sql [lnding.berth] lnding is not a layer (did you mean landing?)'],
    ],
    [
      'table in another layer',
      staging('select 1 as a from landing.flag'),
      ['staging/x.sql [landing.flag] layer landing has no table flag (there is reference.flag)'],
    ],
    [
      'no layer',
      staging('select 1 as a from berth'),
      ['staging/x.sql [berth] berth has no layer (did you mean landing.berth or staging.berth?)'],
    ],
    [
      'unknown column',
      staging('select b.berth_cod from landing.berth b'),
      ['staging/x.sql [b.berth_cod] b has no column berth_cod (did you mean berth_code?)'],
    ],
    [
      'bare unknown column',
      staging('select lengthm from landing.berth'),
      ['staging/x.sql [lengthm] there is no column lengthm (did you mean length_m?)'],
    ],
    [
      'unknown alias',
      staging('select v.berth_code from landing.berth b'),
      ['staging/x.sql [v.berth_code] v is not a table in this query'],
    ],
    [
      'ambiguous',
      staging('select berth_code from landing.berth b join landing.call c on true'),
      ['staging/x.sql [berth_code] berth_code is ambiguous: b and c have it (write b.berth_code or c.berth_code)'],
    ],
    [
      'later layer',
      staging('select call_no from core.fact_call'),
      [
        'staging/x.sql [core.fact_call] staging.x reads core.fact_call, which is in a later layer (a table of staging reads only from landing, reference, staging)',
      ],
    ],
    [
      'name mismatch',
      staging('create view staging.y as select 1 as a'),
      [
        'staging/x.sql [staging.y] the file is staging/x.sql, the table staging.y (write staging.x, or rename the file)',
      ],
    ],
    [
      'statement not allowed',
      staging('select 1 as a; drop table x'),
      [
        'staging/x.sql [drop] this statement is not allowed here (a definition holds a contract, a query, comments, and after them create index, grant and analyze)',
      ],
    ],
    [
      'options without a contract',
      staging("create table staging.x with (load = append, watermark = 'a') as select 1 as a"),
      [
        'staging/x.sql [load] option load needs a contract (declare the columns: create table … (…) with (…); and the query after it)',
        'staging/x.sql [watermark] option watermark needs a contract (declare the columns: create table … (…) with (…); and the query after it)',
      ],
    ],
    [
      'two queries',
      staging('select 1 as a; select 2 as b'),
      ['staging/x.sql [select] the definition has a second query (one file makes one table)'],
    ],
    [
      'no query',
      staging('-- nothing yet'),
      ['staging/x.sql [] the definition has no query (write a select that makes the table’s rows)'],
    ],
    [
      'duplicate',
      { 'staging/sub/berth.sql': 'select 1 as a' },
      [
        'staging/sub/berth.sql [select] staging.berth is already defined in staging/berth.sql (rename one of the files)',
      ],
    ],
    [
      'duplicate column',
      staging('select call_no, call_no from landing.call'),
      ['staging/x.sql [select] the query returns two columns named call_no (give one of them another name with as)'],
    ],
    [
      'unknown option',
      staging('create table staging.x (a int) with (lod = rebuild); select 1 as a'),
      ['staging/x.sql [lod] a table has no option lod (did you mean load?)'],
    ],
    [
      'bad option value',
      staging('create table staging.x (a int) with (load = rebuilt); select 1 as a'),
      [
        'staging/x.sql [load] option load: rebuilt is not one of view, rebuild, append, merge, history, dated; did you mean rebuild?',
      ],
    ],
    [
      'a list that is none',
      staging("create table staging.x (a int) with (load = rebuild, for_each = 'reference.x'); select 1 as a"),
      ['staging/x.sql [for_each] for_each: reference.x is not a reference table (did you mean reference.flag?)'],
    ],
    [
      'unknown column option',
      staging("create table staging.x (a int options (rol 'measure')); select 1 as a"),
      ['staging/x.sql [a] a column has no option rol (did you mean role?)'],
    ],
    [
      'contract lacks a column',
      staging('create table staging.x (a int); select 1 as a, 2 as b'),
      [
        'staging/x.sql [select] the contract does not declare column b, which the query returns (declare it, or remove it from the query)',
      ],
    ],
    [
      'query lacks a column',
      staging('create table staging.x (berth_code text, len numeric); select berth_code from landing.berth'),
      ['staging/x.sql [len] the query returns no column len (add it to the query, or remove it from the contract)'],
    ],
    [
      'narrowing',
      staging('create table staging.x (length_m numeric(4,1)); select length_m from landing.berth'),
      [
        'staging/x.sql [length_m] length_m is numeric(6,1) in the query and numeric(4,1) in the contract: values could be truncated or rejected (widen the contract, or round in the query)',
      ],
    ],
    [
      'constraint column',
      staging('create table staging.x (a int, primary key (b)); select 1 as a'),
      ['staging/x.sql [primary key (b)] constraint x_pkey: the contract has no column b'],
    ],
    [
      'advisory names no constraint',
      staging("create table staging.x (a int not null) with (advisory = 'x_a_notnull'); select 1 as a"),
      [
        'staging/x.sql [advisory] option advisory names x_a_notnull, which is not a constraint of staging.x (did you mean x_a_not_null?)',
      ],
    ],
    [
      'reference to nowhere',
      staging(
        'create table staging.x (a text references reference.flg (flag_code)); select call_no as a from landing.call',
      ),
      [
        'staging/x.sql [references reference.flg (flag_code)] constraint x_a_fkey: it references reference.flg, which is not a table of the project (did you mean reference.flag?)',
      ],
    ],
    [
      'unknown function',
      staging('select functions.clean(berth_code) as a from landing.berth'),
      ['staging/x.sql [functions.clean] there is no function functions.clean (add functions/clean.sql)'],
    ],
    [
      'unknown parameter',
      staging("select current_setting('param.regin') as a from landing.berth"),
      ["staging/x.sql [current_setting('param.regin')] parameters.sql does not set param.regin (did you mean region?)"],
    ],
    [
      'union arms',
      staging('select berth_code, 1 as n from landing.berth union all select berth_code from landing.call'),
      ['staging/x.sql [berth_code] the parts of the union return 2 and 1 columns (return the same columns from each)'],
    ],
    [
      'reference file',
      { 'reference/odd.csv': 'a,b\n1\n' },
      ['reference/odd.csv [1] the line has 1 fields, the header 2 (line 2 of reference/odd.csv)'],
    ],
    [
      'reference contract',
      { 'reference/flag.sql': 'create table reference.flag (flag_code text primary key, name text)' },
      [
        'reference/flag.sql [name] reference/flag.csv has no column name (did you mean flag_name?)',
        'reference/flag.sql [reference.flag] the contract does not declare column flag_name of reference/flag.csv (did you mean name?)',
      ],
    ],
    [
      'contract without csv',
      { 'reference/lost.sql': 'create table reference.lost (a text)' },
      ['reference/lost.sql [reference.lost] there is no CSV file for reference/lost.sql (add reference/lost.csv)'],
    ],
    [
      'unknown server',
      { 'sources/o.sql': 'create foreign table landing.o (a int) server prt' },
      ['sources/o.sql [landing.o] landing.o uses server prt, which is not declared (did you mean port?)'],
    ],
    [
      'check',
      { 'checks/c.sql': 'create view checks.d as select call_n from core.fact_call' },
      [
        'checks/c.sql [checks.d] the file is checks/c.sql, the check checks.d (name it checks.c)',
        'checks/c.sql [call_n] there is no column call_n (did you mean call_no?)',
      ],
    ],
    [
      'misplaced',
      { 'x.sql': 'select 1 as a' },
      [
        'x.sql [select] a definition belongs in the folder of its layer (move the file into a layer’s folder, for example staging/)',
      ],
    ],
    [
      'grant elsewhere',
      staging('select 1 as a; grant select on core.fact_call to public'),
      ['staging/x.sql [core.fact_call] this statement refers to core.fact_call (only staging.x may be changed here)'],
    ],
  ])('%s', (_, files, expected) => expect(problems(projectOf(files))).toEqual(expected));

  test('a cycle shows its whole path at each of its steps', () => {
    const project = projectOf({
      'core/a.sql': 'select x from core.b',
      'core/b.sql': 'select x from core.c',
      'core/c.sql': 'select x from core.a',
    });
    expect(problems(project)).toEqual([
      'core/a.sql [core.b] core.a reads itself: core.a reads core.b reads core.c reads core.a (remove one of these references)',
      'core/b.sql [core.c] core.b reads itself: core.b reads core.c reads core.a reads core.b (remove one of these references)',
      'core/c.sql [core.a] core.c reads itself: core.c reads core.a reads core.b reads core.c (remove one of these references)',
    ]);
    expect(project.order).not.toContain('core.a');
  });
});

describe('columns are resolved', () => {
  test.each<[string, string, string[] | undefined]>([
    ['star', 'select * from landing.berth', ['berth_id', 'berth_code', 'length_m']],
    ['alias star and more', 'select b.*, 1 as one from landing.berth b', ['berth_id', 'berth_code', 'length_m', 'one']],
    [
      'using merges',
      'select * from landing.call join landing.berth using (berth_code)',
      ['berth_code', 'call_no', 'tonnage', 'arrived_at', 'berth_id', 'length_m'],
    ],
    [
      'natural',
      'select * from landing.call natural join landing.berth',
      ['berth_code', 'call_no', 'tonnage', 'arrived_at', 'berth_id', 'length_m'],
    ],
    ['cte', 'with c as (select call_no as n from landing.call) select n from c', ['n']],
    ['cte hides a table', 'with berth as (select 1 as z) select z from berth', ['z']],
    ['cte column list', 'with c (p, q) as (select call_no, tonnage from landing.call) select q from c', ['q']],
    [
      'recursive',
      'with recursive r (n) as (select 1 union all select n + 1 from r where n < 5) select n from r',
      ['n'],
    ],
    ['subquery', 'select s.m from (select max(tonnage) as m from landing.call) s', ['m']],
    [
      'correlated',
      'select b.berth_code from landing.berth b where exists (select from landing.call c where c.berth_code = b.berth_code)',
      ['berth_code'],
    ],
    [
      'lateral',
      'select b.berth_code, l.n from landing.berth b cross join lateral (select count(*) as n from landing.call c where c.berth_code = b.berth_code) l',
      ['berth_code', 'n'],
    ],
    ['values', 'select v.a from (values (1, 2)) v (a, b)', ['a']],
    ['function in from', 'select g.n from generate_series(1, 3) as g (n)', ['n']],
    ['function with columns of its own', "select * from json_each('{}')", ['key', 'value']],
    ['function of an extension, columns unknown', 'select * from crosstab(1)', undefined],
    ['order by output', 'select call_no as k from landing.call order by k', ['k']],
    [
      'group by output',
      "select date_trunc('day', arrived_at) as d, count(*) from landing.call group by d",
      ['d', 'count'],
    ],
    [
      'union',
      'select call_no from landing.call union select berth_code from landing.berth order by call_no',
      ['call_no'],
    ],
    [
      'names as PostgreSQL gives them',
      "select count(*), coalesce(call_no, ''), case when true then 1 end, tonnage::int, 1::text, current_date, exists (select 1), array[1], 1 + 1 as s from landing.call group by 2,4",
      ['count', 'coalesce', 'case', 'tonnage', 'text', 'current_date', 'exists', 'array', 's'],
    ],
    ['whole row', 'select count(c) from landing.call c', ['count']],
    ['system column', 'select ctid from landing.call', ['ctid']],
    ['qualified by layer', 'select landing.call.call_no from landing.call', ['call_no']],
    [
      'window',
      'select row_number() over w as r from landing.call window w as (partition by berth_code order by arrived_at)',
      ['r'],
    ],
    ['nested with', 'select x from (with i as (select call_no as x from landing.call) select x from i) o', ['x']],
  ])('%s', (_, sql, expected) => {
    const project = projectOf({ 'staging/x.sql': sql });
    expect(problems(project)).toEqual([]);
    expect(names(project, 'staging.x')).toEqual(expected);
  });

  test('origins go through common table expressions, unions and expressions', () => {
    const project = projectOf({
      'staging/x.sql':
        'with c as (select tonnage * 2 as t, berth_code as k from landing.call union all select length_m, berth_code from landing.berth) select sum(c.t) as total, c.k from c group by c.k',
    });
    expect(project.columns.get('staging.x')!.map((c) => c.origins)).toEqual([
      ['landing.call.tonnage', 'landing.berth.length_m'],
      ['landing.call.berth_code', 'landing.berth.berth_code'],
    ]);
  });
});

describe('forms of a definition', () => {
  test.each<[string, string, string]>([
    ['a query', 'select 1 as a', 'view'],
    ['create view', 'create view staging.x as select 1 as a', 'view'],
    ['create table as', 'create table staging.x as select 1 as a', 'rebuild'],
    ['contract and query', 'create table staging.x (a int); select 1 as a', 'rebuild'],
    ['contract of a view', 'create table staging.x (a int) with (load = view); select 1 as a', 'view'],
  ])('%s', (_, sql, policy) =>
    expect((projectOf({ 'staging/x.sql': sql }).tables.get('staging.x') as Definition).policy).toBe(policy),
  );

  test('the query’s range is its own text', () => {
    const sql = 'create view staging.x as /* as */ select 1 as a';
    const { query } = projectOf({ 'staging/x.sql': sql }).tables.get('staging.x') as Definition;
    expect(sql.slice(query!.start, query!.end)).toBe('select 1 as a');
  });

  test('constraints get the names that PostgreSQL gives', () => {
    const sql = `create table staging.x (a int primary key, b int not null unique, c int check (c > 0), d text references reference.flag (flag_code), constraint own check (a < b), check (a <> c), unique (a, b)); select 1 as a, 2 as b, 3 as c, 'MR' as d`;
    const contract = projectOf({ 'staging/x.sql': sql }).tables.get('staging.x')!.contract!;
    expect(contract.constraints.map((c) => [c.kind, c.name, c.columns.join()])).toEqual([
      ['primary key', 'x_pkey', 'a'],
      ['not null', 'x_b_not_null', 'b'],
      ['unique', 'x_b_key', 'b'],
      ['check', 'x_c_check', 'c'],
      ['references', 'x_d_fkey', 'd'],
      ['check', 'own', 'a,b'],
      ['check', 'x_check', 'a,c'],
      ['unique', 'x_a_b_key', 'a,b'],
    ]);
    expect(contract.columns.filter((c) => c.notNull).map((c) => c.name)).toEqual(['a', 'b']);
  });
});

describe('an edit recomputes what depends on it, and no more', () => {
  test('the same columns keep what is downstream as it was', () => {
    const before = projectOf();
    const after = changed(before, {
      'staging/berth.sql':
        'select berth_code, length_m::numeric(6,1) as length_m from landing.berth where length_m > 0;',
    });
    expect(after.files.get('core/fact_call.sql')).toBe(before.files.get('core/fact_call.sql'));
    expect(after.columns.get('core.fact_call')).toBe(before.columns.get('core.fact_call'));
    expect(after.columns.get('staging.berth')).toBe(before.columns.get('staging.berth'));
  });
  test('a column that goes is missed downstream, and found again', () => {
    const before = projectOf();
    const broken = changed(before, { 'staging/berth.sql': 'select berth_code from landing.berth' });
    expect(problems(broken)).toEqual(['core/fact_call.sql [b.length_m] b has no column length_m']);
    expect(problems(changed(broken, { 'staging/berth.sql': BASE_FILES['staging/berth.sql']! }))).toEqual([]);
  });
  test('a file that does not parse is not reported at its readers', () => {
    expect(
      problems(projectOf({ 'staging/berth.sql': 'select from from' })).filter((p) => !p.startsWith('staging/berth')),
    ).toEqual([]);
  });
  test('any sequence of edits gives what a fresh reading gives', () => {
    const texts = [
      'select berth_code, length_m from landing.berth',
      'select berth_code from landing.berth',
      'select',
      'select * from landing.berth',
      'select call_no as berth_code, 1 as length_m from landing.call',
    ];
    const files = new Map<string, string>(Object.entries(BASE_FILES));
    let project = readProject(files);
    let seed = 11;
    for (let i = 0; i < 60; i++) {
      seed = (seed * 1103515245 + 12345) % 2147483648;
      const path = seed % 3 === 0 ? 'staging/berth.sql' : seed % 3 === 1 ? 'staging/extra.sql' : 'reference/flag.csv';
      const text = path.endsWith('.csv') ? `flag_code,f${seed % 5}\n` : texts[seed % texts.length]!;
      const gone = seed % 7 === 0 && path === 'staging/extra.sql';
      project = changed(project, { [path]: gone ? null : text });
      if (gone) files.delete(path);
      else files.set(path, text);
      const fresh = readProject(files);
      expect(problems(project).sort()).toEqual(problems(fresh).sort());
      expect(new Map([...project.columns].sort())).toEqual(new Map([...fresh.columns].sort()));
    }
  });
});

test.each<[string, string, (string | null)[][]]>([
  ['plain', 'a,b\n1,2\n', [['1', '2']]],
  ['null and empty', 'a,b\n,""\n', [[null, '']]],
  ['quotes, commas, line ends', 'a,b\r\n"x, ""y""","two\nlines"\r\n', [['x, "y"', 'two\nlines']]],
  ['no last line end, byte order mark', '\ufeffa,b\n1,2', [['1', '2']]],
])('csv: %s', (_, text, rows) => {
  const csv = readCsv(text);
  expect(csv.header).toEqual(['a', 'b']);
  expect(csv.rows).toEqual(rows);
  expect(csv.problems).toEqual([]);
});

test('values of parameters for a run are those files with other values, and tables that use them differ', () => {
  const before = projectOf({
    'parameters.sql': "-- where\nset param.region = 'north'; set param.year = 2026;",
    'staging/x.sql': "select current_setting('param.region') as r from landing.berth",
  });
  const texts = withParameterValues(
    before,
    new Map([
      ['region', "so'uth"],
      ['nothing', 'x'],
    ]),
  );
  expect([...texts]).toEqual([['parameters.sql', "-- where\nset param.region = 'so''uth'; set param.year = 2026;"]]);
  const after = changed(before, Object.fromEntries(texts));
  expect(after.parameters.get('region')!.value).toBe("so'uth");
  const differing = [...fingerprints(after)]
    .filter(([name, print]) => fingerprints(before).get(name) !== print)
    .map(([name]) => name);
  expect(differing).toEqual(['staging.x']);
  expect(withParameterValues(before, new Map([['region', 'north']])).size).toBe(0);
});

test('layers change places, and comments and layout stay', () => {
  const text =
    "-- in order\ncreate schema landing; create schema staging; -- views\ncreate schema core;\ncomment on schema core is 'x';\n";
  const file = projectOf({ 'layers.sql': text }).files.get('layers.sql')!;
  const moved = layersInOrder(text, layerStatements(file), ['landing', 'core', 'staging']);
  expect(moved).toBe(
    "-- in order\ncreate schema landing; create schema core; -- views\ncreate schema staging;\ncomment on schema core is 'x';\n",
  );
  expect(projectOf({ 'layers.sql': moved }).layers.map((l) => l.name)).toEqual(['landing', 'core', 'staging']);
});
