import { beforeAll, describe, expect, test } from '@jest/globals';
import fc from 'fast-check';
import { readProject } from '../resolve/read-project.js';
import type { Project, SourceTable } from '../model/project.js';
import { loadParser } from '../sql/parser.js';
import { shortType } from '../sql/types.js';
import { problems } from '../testing.js';
import {
  driftOf,
  drifted,
  habitualName,
  importTables,
  type CatalogColumn,
  type CatalogTable,
} from './import-tables.js';
import { remoteColumn, remotePlace } from '../model/source.js';

beforeAll(loadParser);

const LAYERS = 'create schema landing; create schema staging;';
const target = { server: 'port_ops', layer: 'landing' };
const column = (name: string, type = 'text', notNull = false): CatalogColumn => ({
  name,
  type,
  notNull,
  comment: null,
});
const table = (name: string, columns: readonly CatalogColumn[], more: Partial<CatalogTable> = {}): CatalogTable => ({
  schema: 'ops',
  name,
  comment: null,
  columns,
  primaryKey: [],
  foreignKeys: [],
  ...more,
});
const projectWith = (texts: ReadonlyMap<string, string>, before?: Project) =>
  readProject(
    new Map([
      ...(before ? [...before.files].map(([p, f]) => [p, f.text] as const) : [['layers.sql', LAYERS] as const]),
      ...texts,
    ]),
  );
const sources = (project: Project) => [...project.tables.values()].filter((t): t is SourceTable => t.kind === 'source');

const BERTHS = table(
  'Berths',
  [
    column('BerthID', 'integer', true),
    column('length m', 'numeric(6,1)'),
    column('select', 'timestamp with time zone'),
  ],
  {
    comment: "where ships' lines go",
    primaryKey: ['BerthID'],
  },
);

describe('an import', () => {
  test('declares tables with types, keys, relations, comments, under names of the project’s habit', () => {
    const calls = table(
      'calls',
      [
        { ...column('call_no', 'text', true), comment: 'The number.' },
        column('berth', 'integer'),
        column('mood', 'ops.mood'),
      ],
      {
        foreignKeys: [
          { columns: ['berth'], schema: 'ops', table: 'Berths', references: ['BerthID'] },
          { columns: ['berth'], schema: 'ops', table: 'elsewhere', references: ['id'] },
        ],
      },
    );
    expect([...importTables(projectWith(new Map()), target, [BERTHS, calls])]).toEqual([
      [
        'sources/port_ops.sql',
        `create server port_ops foreign data wrapper postgres_fdw;

create foreign table landing.berths (
  berth_id integer options (column_name 'BerthID') not null,
  length_m numeric(6,1) options (column_name 'length m'),
  "select" timestamptz,
  primary key (berth_id)
) server port_ops options (schema_name 'ops', table_name 'Berths');
comment on foreign table landing.berths is 'where ships'' lines go';

create foreign table landing.calls (
  call_no text not null,
  berth   integer,
  mood    text,
  foreign key (berth) references landing.berths (berth_id)
) server port_ops options (schema_name 'ops', table_name 'calls');
comment on column landing.calls.call_no is 'The number.';
`,
      ],
    ]);
  });

  test.each([
    ['BerthID', 'berth_id'],
    ['HTTPServerName', 'http_server_name'],
    ['length (m)', 'length_m'],
    ['2nd', 'c_2nd'],
    ['Größe', 'gr_e'],
    ['---', 'c_'],
  ])('%s is called %s', (name, expected) => expect(habitualName(name)).toBe(expected));

  test('tables of one name in two schemas are distinguished', () => {
    const texts = importTables(projectWith(new Map()), target, [
      table('t', [column('a')]),
      { ...table('t', [column('b')]), schema: 'old' },
    ]);
    expect(sources(projectWith(texts)).map((t) => [t.fullName, remotePlace(t).schema])).toEqual([
      ['landing.t', 'ops'],
      ['landing.old_t', 'old'],
    ]);
  });

  test('again keeps what the author wrote, and adopts what drifted', () => {
    const written = `-- the harbour
create server port_ops foreign data wrapper postgres_fdw;
create foreign table landing.berth ( -- our name
  id      integer options (column_name 'BerthID') not null, -- the key
  metres  numeric(6,1) options (column_name 'length m') check (metres > 0), -- in metres
  remark  text,
  primary key (id)
) server port_ops options (schema_name 'ops', table_name 'Berths', left_out 'secret', late_after '1 day');
`;
    const project = projectWith(new Map([['sources/port_ops.sql', written]]));
    const now = {
      ...BERTHS,
      columns: [
        column('BerthID', 'bigint', true),
        column('length m', 'numeric(7,2)'),
        column('secret'),
        column('Depth'),
      ],
    };
    const text = importTables(project, target, [now]).get('sources/port_ops.sql')!;
    expect(text).toBe(
      written
        .replace('integer', 'bigint')
        .replace('numeric(6,1)', 'numeric(7,2)')
        .replace(
          'check (metres > 0), -- in metres\n  remark  text,\n  ',
          "check (metres > 0),\n  depth text options (column_name 'Depth'), -- in metres\n  ",
        ),
    );
    expect(problems(projectWith(new Map([['sources/port_ops.sql', text]])))).toEqual([]);
    expect(importTables(projectWith(new Map([['sources/port_ops.sql', text]])), target, [now]).size).toBe(0);
  });
});

describe('drift', () => {
  const drift = (declared: string, actual: string) => {
    const project = projectWith(
      new Map([
        [
          'sources/s.sql',
          `create server port_ops foreign data wrapper postgres_fdw; create foreign table landing.t (a ${declared}) server port_ops options (schema_name 'ops')`,
        ],
      ]),
    );
    return driftOf(sources(project)[0]!, table('t', [column('a', actual)])).retyped.length > 0;
  };
  test.each([
    ['integer', 'integer', false],
    ['bigint', 'integer', false],
    ['integer', 'bigint', true],
    ['numeric', 'numeric(12,2)', false],
    ['numeric(12,2)', 'numeric', true],
    ['numeric(12,2)', 'numeric(10,2)', false],
    ['numeric(12,2)', 'numeric(12,3)', true],
    ['varchar(10)', 'character varying(20)', true],
    ['varchar(20)', 'character varying(10)', false],
    ['text', 'timestamp with time zone', false],
    ['timestamptz', 'timestamp with time zone', false],
    ['date', 'text', true],
  ])('a declared %s over %s: %s', (declared, actual, expected) => expect(drift(declared, actual)).toBe(expected));
});

describe('any catalog', () => {
  const types = fc.constantFrom(
    'integer',
    'bigint',
    'text',
    'numeric(12,2)',
    'character varying(20)',
    'timestamp with time zone',
    'boolean',
    'money',
    'text[]',
  );
  const names = fc.oneof(
    fc.constantFrom('id', 'ID', 'Name', 'order', 'From Port', 'a,b', "o'clock", 'q"q', 'é'),
    fc.string({ minLength: 1, maxLength: 8 }).filter((n) => !n.includes('\0')),
  );
  const columns = fc.uniqueArray(
    fc.record({ name: names, type: types, notNull: fc.boolean(), comment: fc.option(fc.string()) }),
    {
      minLength: 1,
      maxLength: 6,
      selector: (c) => c.name,
    },
  );
  const catalogs = fc.uniqueArray(
    fc.record({ name: names, columns, comment: fc.option(fc.string()) }).map((t): CatalogTable =>
      table(t.name, t.columns, {
        comment: t.comment,
        primaryKey: t.columns
          .filter((c) => c.notNull)
          .map((c) => c.name)
          .slice(0, 2),
      }),
    ),
    { minLength: 1, maxLength: 4, selector: (t) => t.name },
  );

  test('is declared without a problem, says all that it said, and has not drifted', () => {
    fc.assert(
      fc.property(catalogs, (tables) => {
        const project = projectWith(importTables(projectWith(new Map()), target, tables));
        expect(problems(project)).toEqual([]);
        for (const actual of tables) {
          const declared = sources(project).find((t) => remotePlace(t).name === actual.name)!;
          expect(declared.contract.columns.map((c) => [remoteColumn(c), c.type])).toEqual(
            actual.columns.map((c) => [c.name, shortType(c.type)]),
          );
          expect(declared.comment ?? null).toBe(actual.comment);
          expect(drifted(driftOf(declared, actual))).toBe(false);
        }
      }),
    );
  });

  test('that changes is adopted until nothing has drifted', () => {
    fc.assert(
      fc.property(catalogs, columns, fc.nat(), (tables, others, choice) => {
        const before = projectWith(importTables(projectWith(new Map()), target, tables));
        const changed = tables[choice % tables.length]!;
        // Some of the old columns, some of them with another type, and new ones.
        const kept = changed.columns.filter((_, i) => (choice >> i) % 3 !== 0);
        const old = kept.length ? kept : changed.columns.slice(0, 1);
        const now = {
          ...changed,
          columns: [...old, ...others.filter((c) => !changed.columns.some((o) => o.name === c.name))].map((c, i) =>
            i % 2 ? c : { ...c, type: 'text' },
          ),
        };
        const after = projectWith(importTables(before, target, [now]), before);
        expect(problems(after)).toEqual([]);
        const declared = sources(after).find((t) => remotePlace(t).name === now.name)!;
        expect(drifted(driftOf(declared, now))).toBe(false);
        expect(declared.contract.columns.map((c) => remoteColumn(c)).sort()).toEqual(
          now.columns.map((c) => c.name).sort(),
        );
      }),
    );
  });
});
