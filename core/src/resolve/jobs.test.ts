import { beforeAll, describe, expect, test } from '@jest/globals';
import { jobTables } from '../graph/job-tables.js';
import { jobSpec } from '../language/job.js';
import { loadParser } from '../sql/parser.js';
import { readProject } from './read-project.js';

beforeAll(() => loadParser());

const BASE = {
  'layers.sql':
    'create schema landing; create schema reference; create schema staging; create schema core; create schema mart;',
  'parameters.sql': "set param.least = '1'; set param.seen = '2';",
  'sources/s.sql': `create server files foreign data wrapper file_fdw;
create foreign table landing.rate (n integer) server files options (pattern 'rate_{as_of:date}.csv');
create server s foreign data wrapper postgres_fdw;
create foreign table landing.call (n integer) server s;`,
  'reference/terminal.csv': 'code\nnorth\nsouth\n',
  'staging/call.sql': "select n, current_setting('param.seen') as seen from landing.call",
  'core/fact_call.sql':
    "create table core.fact_call (n integer) with (load = rebuild);\nselect n from staging.call where n > current_setting('param.least')::integer;",
  'mart/calls.sql': `create table mart.calls (n integer) with (load = rebuild, for_each = 'reference.terminal', each_schema = 'mart_{code}');
select n from core.fact_call;`,
};
const project = (jobs: Readonly<Record<string, string>>) =>
  readProject(
    new Map(
      Object.entries({ ...BASE, ...Object.fromEntries(Object.entries(jobs).map(([n, t]) => [`jobs/${n}.sql`, t])) }),
    ),
  );
/** What is wrong with jobs: the text at fault, and what is said of it. */
function told(jobs: Readonly<Record<string, string>>): string[] {
  const { diagnostics, files } = project(jobs);
  return diagnostics
    .filter((d) => d.path.startsWith('jobs/'))
    .map((d) => `[${files.get(d.path)!.text.slice(d.range.start, d.range.end)}] ${d.message}; ${d.hint}`);
}

describe('a job', () => {
  test('is read with all that it says', () => {
    const { jobs, tables, diagnostics } = project({
      early: 'create publication early for table reference.terminal with (after = late);',
      late: `create publication late for table core.fact_call, tables in schema mart
with (at = '30 4 * * 1-5', time_zone = 'Europe/Paris', on_delivery = 'landing.rate', needs = all, only_stale = true,
  parallel = 4, time_limit = '1 hour 30 minutes', retries = 2, retry_after = '5 minutes', when_running = wait, when_missed = skip,
  "param.least" = '100');
comment on publication late is 'What the office reads at seven.';`,
    });
    expect(diagnostics).toEqual([]);
    const late = jobs.get('late')!;
    expect(late.comment).toBe('What the office reads at seven.');
    expect(jobTables(late, tables)).toEqual(['core.fact_call', 'mart_north.calls', 'mart_south.calls']);
    expect(jobSpec(late)).toMatchObject({
      ...{ zone: 'Europe/Paris', after: [], onDelivery: ['landing.rate'], needs: 'all', onlyStale: true, parallel: 4 },
      ...{ timeLimit: 5400, retries: 2, retryAfter: 300, whenRunning: 'wait', whenMissed: 'skip' },
      parameters: new Map([['least', '100']]),
    });
    expect(jobSpec(jobs.get('early')!)).toMatchObject({
      ...{ cron: undefined, zone: 'UTC', after: ['late'], needs: 'stale', onlyStale: false, parallel: undefined },
      ...{ timeLimit: undefined, retries: 0, retryAfter: 60, whenRunning: 'skip', whenMissed: 'once' },
    });
  });

  test('takes a fan-out by the name in its file', () => {
    const { jobs, tables, diagnostics } = project({
      j: "create publication j for table mart.calls with (at = '0 4 * * *');",
    });
    expect([diagnostics, jobTables(jobs.get('j')!, tables)]).toEqual([[], ['mart_north.calls', 'mart_south.calls']]);
  });

  const AT = "with (at = '0 4 * * *')";
  test.each<[string, string, string]>([
    [
      'an unknown table',
      `create publication j for table core.fact_cal ${AT};`,
      '[core.fact_cal] layer core has no table fact_cal; did you mean core.fact_call?',
    ],
    [
      'an unknown layer of a table',
      `create publication j for table cor.fact_call ${AT};`,
      '[cor.fact_call] cor is not a layer; did you mean core?',
    ],
    [
      'an unknown layer',
      `create publication j for tables in schema marts ${AT};`,
      '[marts] marts is not a layer; did you mean mart?',
    ],
    [
      'a table without layer',
      `create publication j for table fact_call ${AT};`,
      '[fact_call] fact_call has no layer; write layer.fact_call',
    ],
    [
      'a source',
      `create publication j for table landing.call ${AT};`,
      '[landing.call] landing.call is brought in, not loaded; name the tables that read it: its rows come by themselves, or under Sources',
    ],
    [
      'some rows',
      `create publication j for table core.fact_call where (n > 1) ${AT};`,
      '[core.fact_call] a job loads whole tables, not some rows of them; leave it out: which rows there are is the table’s own query',
    ],
    [
      'some columns',
      `create publication j for table core.fact_call (n) ${AT};`,
      '[core.fact_call] a job loads whole tables, not some columns of them; leave it out: which rows there are is the table’s own query',
    ],
    [
      'only',
      `create publication j for table only core.fact_call ${AT};`,
      '[core.fact_call] only has no meaning here; leave it out',
    ],
    [
      'all tables',
      `create publication j for all tables ${AT};`,
      '[j] a job names its tables; write for tables in schema LAYER for all tables of a layer',
    ],
    [
      'the current schema',
      `create publication j for tables in schema current_schema ${AT};`,
      '[current_schema] a job names its tables; write for tables in schema LAYER for all tables of a layer',
    ],
    [
      'no tables',
      `create publication j ${AT};`,
      '[j] the job has no tables; write for table layer.table, or for tables in schema LAYER',
    ],
    [
      'no options',
      'create publication j for table core.fact_call;',
      "[j] nothing starts the job; write with (at = '30 4 * * *'), or after = another job",
    ],
    [
      'another name',
      `create publication k for table core.fact_call ${AT};`,
      '[k] the file is jobs/j.sql, the job k; name it j',
    ],
    [
      'two jobs',
      `create publication j for table core.fact_call ${AT}; create publication k for table core.fact_call;`,
      '[create] this statement is not allowed here; jobs/ holds one create publication NAME for table … with (…) a file, and a comment on it',
    ],
    [
      'another statement',
      'select 1',
      '[select] this statement is not allowed here; jobs/ holds one create publication NAME for table … with (…) a file, and a comment on it',
    ],
    [
      'an unknown option',
      `create publication j for table core.fact_call with (att = '0 4 * * *', when_runing = skip);`,
      '[att] a job has no option att; did you mean at?',
    ],
    [
      'a wrong choice',
      'create publication j for table core.fact_call with (needs = som);',
      '[needs] option needs: som is not one of all, stale, none; undefined',
    ],
    [
      'a month as a length',
      "create publication j for table core.fact_call with (at = '0 4 * * *', time_limit = '1 month');",
      '[time_limit] option time_limit: 1 month is not a fixed length of time such as 90 minutes; undefined',
    ],
    [
      'a wrong schedule',
      "create publication j for table core.fact_call with (at = '0 24 * * *');",
      '[at] at: 24 is not an hour; did you mean 23? it is 0 to 23',
    ],
    [
      'a wrong zone',
      "create publication j for table core.fact_call with (at = '0 4 * * *', time_zone = 'Europe/Pariss');",
      '[time_zone] time_zone: Europe/Pariss is not a time zone; did you mean Europe/Paris?',
    ],
    [
      'an unknown job before it',
      "create publication j for table core.fact_call with (after = 'jj, mornin');",
      '[after] there is no job jj; jobs are the files of jobs/, by their names',
    ],
    [
      'files that nobody delivers',
      "create publication j for table core.fact_call with (on_delivery = 'landing.rates');",
      '[on_delivery] no files are delivered for landing.rates; did you mean landing.rate?',
    ],
    [
      'an unknown parameter',
      `create publication j for table core.fact_call with ("param.leest" = '3');`,
      '["param.leest"] the project does not set param.leest; did you mean least?',
    ],
    [
      'a parameter of a view',
      `create publication j for table core.fact_call with ("param.seen" = '3');`,
      '["param.seen"] the view staging.call reads param.seen; a view has one value for all who read it: give it another load, or leave the parameter out',
    ],
  ])('has an error: %s', (_, text, error) => expect(told({ j: text })).toContain(error));

  test('is not called in capitals', () =>
    expect(told({ Early: `create publication "Early" for table core.fact_call ${AT};` })).toEqual([
      '["Early"] the name of a job is in small letters: Early; rename the file to early.sql',
    ]));

  test('does not come after itself, over others either', () => {
    const of = (name: string, after: string) =>
      `create publication ${name} for table core.fact_call with (after = '${after}');`;
    expect(told({ a: of('a', 'b'), b: of('b', 'c'), c: of('c', 'a'), d: of('d', 'd'), e: of('e', 'a') })).toEqual([
      '[after] the job comes after itself: a after b after c after a; take one of them out of after',
      '[after] the job comes after itself: b after c after a after b; take one of them out of after',
      '[after] the job comes after itself: c after a after b after c; take one of them out of after',
      '[after] the job comes after itself: d after d; take one of them out of after',
    ]);
  });

  test('has one value of a parameter with all that loads its tables', () => {
    const of = (name: string, value: string) =>
      `create publication ${name} for table core.fact_call with (at = '0 4 * * *'${value});`;
    expect(told({ a: of('a', `, "param.least" = '3'`), b: of('b', '') })).toEqual([
      '["param.least"] the job b loads the same tables with another value of param.least; give both the same value',
    ]);
    expect(told({ a: of('a', `, "param.least" = '3'`), b: of('b', `, "param.least" = '3'`) })).toEqual([]);
  });
});
