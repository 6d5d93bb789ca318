import { afterAll, beforeAll, expect, test } from '@jest/globals';
import { suspects, type QueryPart } from '@ouvrage/core/assist';
import type { Definition, Project } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import {
  draft,
  runTables,
  startApplication,
  warehouse,
  workspace,
  type Client,
  type TestApplication,
} from '../testing.js';

/** Where in the author's text an error of the database arises, and the rows that cause it, on the demo's data. */
let application: TestApplication;
let mira: Client;
let slug: string;
/** Two berths, told by their codes. */
let [first, second]: string[] = [];

beforeAll(async () => {
  application = await startApplication();
  mira = await application.signIn('mira');
  slug = await workspace(mira, 'Traced');
  [first, second] = (
    await warehouse<{ code: string }>('select berth_code as code from landing.berth order by 1 offset 3 limit 2')
  ).map((r) => r.code);
});
afterAll(() => application.close());

interface Told {
  readonly sqlstate: string;
  readonly path: string;
  readonly line: number;
  readonly column: number;
  readonly detail?: string;
  readonly rows?: { readonly columns: string[]; readonly rows: string[][] };
}

/** The error of a table in a run of core.traced, whose text is this, and the text of the author's file that it leads to. */
async function failing(text: string, failed = 'core.traced'): Promise<{ error: Told; at: string }> {
  await draft(mira, slug, 'core/traced.sql', () => `-- what\n${text}`);
  const run = await runTables(mira, slug, ['core.traced']);
  const error = run.steps.find((s) => s.table === failed)!.error as unknown as Told;
  const { files, drafts } = (await mira.get(`/api/workspaces/${slug}/files`)).body as {
    files: Record<string, string>;
    drafts: { path: string; text: string }[];
  };
  const written = drafts.find((d) => d.path === error.path)?.text ?? files[error.path] ?? '';
  return { error, at: (written.split('\n')[error.line - 1] ?? '').slice(error.column - 1) };
}
const column = ({ rows }: Told, name: string) => rows?.rows.map((row) => row[rows.columns.indexOf(name)]);

/** One divided by nothing, for one berth. */
const faulty = (code: string) => `1 / (b.berth_code <> '${code}')::integer`;

test.each<[string, () => string, () => string]>([
  [
    'a value that is returned',
    () => `select b.berth_name,\n  ${faulty(first!)} as n\nfrom landing.berth b`,
    () => `${faulty(first!)} as n`,
  ],
  [
    'a condition',
    () => `select b.berth_name\nfrom landing.berth b\n  where ${faulty(first!)} = 1`,
    () => `where ${faulty(first!)} = 1`,
  ],
  [
    'a join',
    () =>
      `select t.terminal_name\nfrom landing.berth b\njoin landing.terminal t on t.terminal_code = b.terminal_code and ${faulty(first!)} = 1`,
    () => 'from landing.berth b',
  ],
  [
    'a common table expression behind another one',
    () =>
      `with b as (select * from landing.berth),\n  d as (\n    select ${faulty(first!)} as n from b)\nselect n from d`,
    () => `${faulty(first!)} as n from b)`,
  ],
  [
    'one of two selects',
    () =>
      `select 1 as n, b.berth_code as code from landing.berth b\nunion all\nselect ${faulty(first!)}, b.berth_code from landing.berth b`,
    () => `${faulty(first!)}, b.berth_code from landing.berth b`,
  ],
  [
    'a sum',
    () => `select b.terminal_code,\n  sum(${faulty(first!)}) as n\nfrom landing.berth b\ngroup by b.terminal_code`,
    () => `sum(${faulty(first!)}) as n`,
  ],
  [
    'a group',
    () => `select count(*) as n\nfrom landing.berth b\ngroup by ${faulty(first!)}`,
    () => `group by ${faulty(first!)}`,
  ],
  [
    'rows of a view',
    () => `select ${faulty(first!)} as n from staging.berth b`,
    () => `${faulty(first!)} as n from staging.berth b`,
  ],
])('%s: the place, and the row', async (_, text, place) => {
  const { error, at } = await failing(`create table core.traced as\n${text()}\n;`);
  expect(error).toMatchObject({
    sqlstate: '22012',
    path: 'core/traced.sql',
    detail: 'The error comes from this row of landing.berth:',
  });
  expect(at).toBe(place());
  expect(column(error, 'berth_code')).toEqual([first]);
});

test.each<[string, string, string, string, string]>([
  ['a view that is read', 'core.traced', 'landing.call', 'call_no', 'c.tonnage,'],
  ['a view that is checked', 'staging.berth', 'landing.berth', 'berth_code', 'b.length_m,'],
])('%s: the place is in its file', async (_, failed, source, key, value) => {
  const [{ code }] = (await warehouse<{ code: string }>(
    `select ${key} as code from ${source} order by 1 offset 5 limit 1`,
  )) as [{ code: string }];
  const file = `${source.replace('landing.', 'staging/')}.sql`;
  const [alias, name] = value.slice(0, -1).split('.');
  const changed = `${alias}.${name} / (${alias}.${key} <> '${code}')::integer as ${name},`;
  await draft(mira, slug, file, (t) => t.replace(value, changed));
  const reading = `create table core.traced as\nselect ${key}, ${name} from ${file.slice(0, -4).replace('/', '.')};`;
  const { error, at } = await failing(reading, failed);
  expect(error).toMatchObject({ sqlstate: '22012', path: file });
  expect(at).toBe(changed);
  expect(column(error, key)).toEqual([code]);
});

test('a subquery of several rows: the rows together', async () => {
  const { error, at } = await failing(
    `create table core.traced as\nselect t.terminal_name,\n  (select b.berth_code from landing.berth b where b.berth_code in ('${first}', '${second}')) as code\nfrom landing.terminal t;`,
  );
  expect(error.sqlstate).toBe('21000');
  expect(at).toMatch(/^\(select b\.berth_code/);
  expect(column(error, 'berth_code')).toEqual(expect.arrayContaining([first, second]));
});

test('a value that does not fit the contract: the place is its column there', async () => {
  const { error, at } = await failing(
    'create table core.traced (\n  berth_code text,\n  berth_name numeric(4,1)\n) with (load = rebuild);\nselect berth_code, berth_name from landing.berth;',
  );
  expect(error.detail).toBe('The rows of the query that do not fit the contract:');
  expect(at).toBe('berth_name numeric(4,1)');
});

test('a condition of the contract: the place, and the row', async () => {
  const condition = `check (1 / (berth_code <> '${first}')::integer > 0)`;
  const { error, at } = await failing(
    `create table core.traced (\n  berth_code text,\n  ${condition}\n) with (load = rebuild);\nselect berth_code from landing.berth;`,
  );
  expect(error).toMatchObject({
    sqlstate: '22012',
    path: 'core/traced.sql',
    detail: 'The error comes from this row of landing.berth:',
  });
  expect(at).toBe(condition);
  expect(column(error, 'berth_code')).toEqual([first]);
});

test.each<[string, (statement: string) => string, string, string]>([
  [
    'an index',
    (index) => `create table core.traced as\nselect terminal_code from landing.berth;\n\n${index}`,
    'create unique index on core.traced (terminal_code);',
    '23505',
  ],
  [
    'a setting',
    (set) => `\n${set}\ncreate table core.traced as select terminal_code from landing.berth;`,
    "set work_mem = 'lots';",
    '22023',
  ],
  [
    'the option before',
    (option) =>
      `create table core.traced (berth_code text primary key)\nwith (load = merge, business_key = 'berth_code',\n${option}\nselect berth_code from landing.berth;`,
    "before = 'select 1 / 0');",
    '22012',
  ],
])('%s, of which the database tells no place: its beginning', async (_, text, statement, sqlstate) => {
  const { error, at } = await failing(text(statement));
  expect(error).toMatchObject({ sqlstate, path: 'core/traced.sql' });
  expect(at).toBe(statement);
});

test('an error that no row causes: the place alone', async () => {
  const { error, at } = await failing(
    'create table core.traced as\nselect berth_code,\n  1 / 0 as n from landing.berth;',
  );
  expect(error).toMatchObject({ sqlstate: '22012', path: 'core/traced.sql' });
  expect(at).toBe('1 / 0 as n from landing.berth;');
  expect(error.rows).toBeUndefined();
});

test('a run with a parameter of its own: the row is found with it', async () => {
  const [parameter] = (await mira.get('/api/workspaces/production/files')).body.files['parameters.sql'].match(
    /param\.\w+/,
  ) as [string];
  const text = `create table core.traced as\nselect 1 / (berth_code <> current_setting('${parameter}'))::integer as n from landing.berth;`;
  await draft(mira, slug, 'core/traced.sql', () => text);
  const ask = {
    tables: ['core.traced'],
    upstream: false,
    downstream: false,
    parameters: { [parameter.slice('param.'.length)]: second },
  };
  const { id } = (await mira.send('post', `/api/workspaces/${slug}/runs`, ask)).body as { id: number };
  const error = (await mira.ended(id)).steps.find((s) => s.table === 'core.traced')!.error as unknown as Told;
  expect(column(error, 'berth_code')).toEqual([second]);
});

test('a file of checks/, functions in it', async () => {
  const [{ hull }] = (await warehouse<{ hull: string }>(
    'select hull_no as hull from landing.vessel order by 1 offset 7 limit 1',
  )) as [{ hull: string }];
  const condition = `where not functions.hull_no_is_valid(hull_no) or 1 / (hull_no <> '${hull}')::integer = 0`;
  const check = `create view checks.traced with (about = 'core.traced') as\nselect hull_no from core.traced\n${condition}\n;`;
  await draft(mira, slug, 'checks/traced.sql', () => check);
  const { error, at } = await failing(
    'create table core.traced as select hull_no from landing.vessel;',
    'checks/traced',
  );
  expect(error).toMatchObject({
    sqlstate: '22012',
    path: 'checks/traced.sql',
    detail: 'The error comes from this row of core.traced:',
  });
  expect(at).toBe(condition);
  expect(column(error, 'hull_no')).toEqual([hull]);
  await draft(mira, slug, 'checks/traced.sql', () => null);
});

test('parts of the demo’s queries run, or are no query of their own', async () => {
  const { files } = (await mira.get('/api/workspaces/production/files')).body as { files: Record<string, string> };
  const project: Project = readProject(new Map(Object.entries(files)));
  const names = {
    placeOf: (t: string) => ({ schema: t.split('.')[0]!, name: t.split('.')[1]! }),
    functionsSchema: 'functions',
  };
  const outcomes: { whole: boolean; outcome: string }[] = [];
  const run = async (part: QueryPart, whole: boolean): Promise<void> => {
    outcomes.push({
      whole,
      outcome: await warehouse(`explain ${part.sql()}`).then(
        () => 'runs',
        (e: { code: string }) => e.code.slice(0, 2),
      ),
    });
    for (const inner of part.parts) await run(inner, false);
  };
  for (const table of project.tables.values()) {
    if (table.kind !== 'definition' || !table.query || table.each) continue;
    for (const part of suspects(project, table as Definition, names).at(-1)!.parts) await run(part, true);
  }
  const runs = (of: typeof outcomes) => of.filter((o) => o.outcome === 'runs').length;
  expect(outcomes.filter((o) => o.whole && o.outcome !== 'runs')).toEqual([]);
  expect(new Set(outcomes.map((o) => o.outcome))).toEqual(new Set(['runs', '42']));
  expect(runs(outcomes) / outcomes.length).toBeGreaterThan(0.9);
});
