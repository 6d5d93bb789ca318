import { beforeAll, expect, test } from '@jest/globals';
import fc from 'fast-check';
import { fingerprints } from '../graph/fingerprint.js';
import { loadParser } from '../sql/parser.js';
import { BASE_FILES } from '../testing.js';
import type { Project } from '../model/project.js';
import { changeFiles, readProject } from './read-project.js';

beforeAll(loadParser);

/** Texts that files take on in random order: sound ones, broken ones, cycles, names that come and go. */
const TEXTS: Readonly<Record<string, readonly (string | null)[]>> = {
  'staging/berth.sql': [
    BASE_FILES['staging/berth.sql']!,
    'select berth_code, length_m as metres from landing.berth',
    'select * from landing.berth',
    'select berth_code fro landing.berth',
    'select b.berth_code, c.length_m from landing.berth b join core.fact_call c on true',
    null,
  ],
  'staging/call.sql': [
    BASE_FILES['staging/call.sql']!,
    'create view staging.call as select call_no, berth_code, tonnage::integer as tonnage from landing.call',
    "select call_no, berth_code, tonnage from landing.call where berth_code <> current_setting('param.region')",
    'select call_no from staging.berth',
    null,
  ],
  'core/fact_call.sql': [
    BASE_FILES['core/fact_call.sql']!,
    `create table core.fact_call (call_no text primary key, length_m numeric(5,1), tonnage numeric(12,2) check (tonnage >= 0));
comment on column core.fact_call.call_no is 'The number of the call.';
select c.call_no, b.length_m, c.tonnage from staging.call c join staging.berth b using (berth_code);`,
    `create table core.fact_call (call_no text, flag text references reference.flag (flag_code));
select call_no, functions.clean(berth_code) as flag from staging.call`,
    null,
  ],
  'mart/totals.sql': [
    'select count(*) as calls, sum(tonnage) as tonnes from core.fact_call',
    'select length_m from core.fact_call',
    null,
  ],
  'reference/flag.csv': [BASE_FILES['reference/flag.csv']!, 'flag,flag_name\nMR,Marravel\n', null],
  'reference/flag.sql': ['create table reference.flag (flag_code text primary key, flag_name text not null)', null],
  'functions/clean.sql': [
    'create function functions.clean(t text) returns text language sql immutable return trim(t)',
    null,
  ],
  'parameters.sql': [BASE_FILES['parameters.sql']!, "set param.area = 'x';"],
  'sources/port.sql': [
    BASE_FILES['sources/port.sql']!,
    BASE_FILES['sources/port.sql']!.replace('tonnage numeric(12,2), ', ''),
    null,
  ],
  'layers.sql': [BASE_FILES['layers.sql']!, BASE_FILES['layers.sql']!.replace('create schema mart;', '')],
  'checks/no_calls.sql': [
    'create view checks.no_calls as select call_no from core.fact_call where call_no is null',
    'select call from core.fact_call',
    null,
  ],
};

const edits = fc.array(
  fc
    .constantFrom(...Object.keys(TEXTS))
    .chain((path) => fc.record({ path: fc.constant(path), text: fc.constantFrom(...TEXTS[path]!) })),
  { minLength: 1, maxLength: 12 },
);

/** All that a reading says, in a form that can be compared. */
function said(project: Project) {
  const told = project.diagnostics
    .map((d) => `${d.path} ${d.range.start}-${d.range.end} ${d.code} ${d.message} ${d.hint ?? ''}`)
    .sort();
  return {
    told,
    tables: [...project.tables.keys()].sort(),
    columns: Object.fromEntries(
      [...project.columns].map(([name, columns]) => [
        name,
        columns?.map((c) => `${c.name} ${c.type} ${c.origins.join()}`) ?? null,
      ]),
    ),
    reads: Object.fromEntries([...project.reads].map(([name, inputs]) => [name, [...inputs].sort()])),
    fingerprints: Object.fromEntries(fingerprints(project)),
  };
}

test('a project changed file by file is the project reread, whatever the changes', () => {
  fc.assert(
    fc.property(edits, (changes) => {
      const files = new Map(Object.entries(BASE_FILES));
      let project = readProject(files);
      for (const { path, text } of changes) {
        if (text === null) files.delete(path);
        else files.set(path, text);
        project = changeFiles(project, new Map([[path, text]]));
        expect(said(project)).toEqual(said(readProject(files)));
      }
    }),
    { numRuns: 150 },
  );
});

test('a file that did not change is not read again', () => {
  const before = readProject(new Map(Object.entries(BASE_FILES)));
  const after = changeFiles(
    before,
    new Map([['staging/call.sql', 'select call_no, berth_code, tonnage from landing.call']]),
  );
  for (const [path, file] of before.files) expect(after.files.get(path) === file).toBe(path !== 'staging/call.sql');
});
