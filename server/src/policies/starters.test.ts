import { describe, expect, test } from '@jest/globals';
import type { Definition } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import {
  dateDimension,
  dimensionTable,
  factTable,
  proposeLookUps,
  shareFoundQuery,
  vaultTables,
  type DateChoices,
} from '@ouvrage/core/starter';
import { random, scratch } from '../testing-sql.js';
import { loadsIn, loadsOf, type Loads } from './harness.js';

/** What the starters of dimensions, facts and calendars write, loaded and held against plain computations. */
const SCHEMA = 'policy_starters_test';
const client = scratch(SCHEMA);

const SOURCES = {
  'sources/s.sql': `create server s foreign data wrapper postgres_fdw;
    create foreign table landing.ship (hull text, name text, flag text, tons numeric(8,1)) server s;
    create foreign table landing.stay (stay_no integer, hull text, pilot_hull text, came date, tonnes numeric(10,2), note text) server s;`,
};
/** The contract and the query of a definition, as the harness wants them. */
function parts(sql: string): [contract: string, query: string] {
  const body = sql.replace(/^--.*\n/, '');
  const at = body.indexOf(';\n\n');
  return [body.slice(body.indexOf('(') + 1, at), body.slice(at + 3).replace(/;\s*$/, '')];
}

describe('a dimension', () => {
  const of = (
    history: boolean,
    missing: 'keep' | 'close' | 'flag' | 'delete',
    method: 'sequence' | 'hash' = 'sequence',
  ) =>
    dimensionTable({
      fullName: 'core.t',
      source: 'landing.ship',
      key: ['hull'],
      keyTypes: ['text'],
      attributes: [
        { column: { name: 'name', type: 'text' }, onChange: 'overwrite', previous: false },
        { column: { name: 'flag', type: 'text' }, onChange: 'version', previous: true },
        { column: { name: 'tons', type: 'numeric(8,1)' }, onChange: 'keep', previous: false },
      ],
      history,
      missing,
      method,
    });
  const load = async (sql: string, days: readonly (readonly (string | null)[])[][]) => {
    const loads = await loadsOf(client, SCHEMA, ...parts(sql), SOURCES);
    await loads.reset();
    for (const [day, rows] of days.entries()) {
      await client.query(
        'drop table if exists ship; create table ship (hull text, name text, flag text, tons numeric(8,1))',
      );
      for (const row of rows) await client.query('insert into ship values ($1, $2, $3, $4)', [...row]);
      await loads.load(`2026-01-0${day + 1}`);
    }
    return (await client.query<Record<string, string>>('select * from t order by 1')).rows;
  };
  const DAYS = [
    [
      ['A', 'Ann', 'X', '10'],
      ['B', 'Bob', 'X', '20'],
    ],
    [['A', 'Anna', 'Y', '11']],
  ];
  test('with a history', async () =>
    expect(await load(of(true, 'close'), DAYS)).toMatchObject([
      { hull: 'A', name: 'Anna', flag: 'X', earlier_flag: null, tons: '10.0', is_current: 'f' },
      { hull: 'B', name: 'Bob', flag: 'X', is_current: 'f' },
      { hull: 'A', name: 'Anna', flag: 'Y', earlier_flag: 'X', tons: '10.0', is_current: 't' },
    ]));
  test('without one, vanished members marked', async () =>
    expect(await load(of(false, 'flag', 'sequence'), DAYS)).toMatchObject([
      { t_key: '1', hull: 'A', name: 'Anna', flag: 'Y', tons: '11.0', is_gone: 'f' },
      { t_key: '2', hull: 'B', is_gone: 't' },
    ]));
  test('with hashes for keys, the same whatever came first', async () => {
    const [first] = [await load(of(false, 'keep', 'hash'), DAYS)];
    const again = await load(of(false, 'keep', 'hash'), [[...DAYS[0]!].reverse(), ...DAYS.slice(1)]);
    expect(again).toEqual(first);
  });
});

test('a fact, its look-ups proposed by names, with the share found', async () => {
  const dimension = { fullName: 'core.dim_ship', surrogate: 'ship_key', key: ['hull'], history: false };
  const columns = [
    { name: 'stay_no', type: 'integer' },
    { name: 'hull', type: 'text' },
    { name: 'pilot_hull', type: 'text' },
    { name: 'came', type: 'date' },
    { name: 'tonnes', type: 'numeric(10,2)' },
  ];
  const lookUps = proposeLookUps(columns, [dimension]);
  expect(lookUps.map((l) => [l.name, l.by])).toEqual([
    ['ship_key', ['hull']],
    ['pilot_ship_key', ['pilot_hull']],
  ]);
  const sql = factTable({
    fullName: 'core.t',
    source: 'landing.stay',
    key: ['stay_no'],
    columns: columns.map((c) => ({ ...c, measure: c.name === 'tonnes' })),
    lookUps,
    policy: 'merge',
  });
  await client.query(`drop table if exists stay, dim_ship;
    create table dim_ship as select * from (values (0::bigint, ''), (1, 'A'), (2, 'B')) v (ship_key, hull);
    create table stay as select * from (values (1, 'A', 'B', date '2026-01-01', 5.5::numeric(10,2)), (2, 'Z', null, date '2026-01-02', 1)) v (stay_no, hull, pilot_hull, came, tonnes)`);
  const loads = await loadsOf(client, SCHEMA, ...parts(sql), {
    ...SOURCES,
    'core/dim_ship.sql':
      "create table core.dim_ship (ship_key bigint options (role 'surrogate key') primary key, hull text not null) with (load = merge, business_key = 'hull'); select hull from landing.ship;",
  });
  await loads.reset();
  expect(await loads.load('2026-01-01')).toMatchObject({
    inserted: 2,
    'ship_key unknown': 1,
    'pilot_ship_key unknown': 1,
  });
  expect((await client.query('select stay_no, ship_key, pilot_ship_key, hull, tonnes from t order by 1')).rows).toEqual(
    [
      { stay_no: '1', ship_key: '1', pilot_ship_key: '2', hull: 'A', tonnes: '5.50' },
      { stay_no: '2', ship_key: '0', pilot_ship_key: '0', hull: 'Z', tonnes: '1.00' },
    ],
  );
  const shares = (
    await client.query({
      text: shareFoundQuery('landing.stay', lookUps).replaceAll('landing.', '').replaceAll('core.', ''),
      rowMode: 'array',
    })
  ).rows as string[][];
  expect(shares.sort()).toEqual([
    ['0', '2', '1'],
    ['1', '2', '1'],
  ]);
});

describe('a date dimension', () => {
  const DAY_NAMES = ['Sunday', 'Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday'];
  const MONTHS = [
    'January',
    'February',
    'March',
    'April',
    'May',
    'June',
    'July',
    'August',
    'September',
    'October',
    'November',
    'December',
  ];
  const day = (n: number) => new Date(n * 86_400_000);
  const iso = (d: Date) => {
    const thursday = new Date(d.getTime() + (4 - (d.getUTCDay() || 7)) * 86_400_000);
    const year = thursday.getUTCFullYear();
    return [year, Math.floor((thursday.getTime() - Date.UTC(year, 0, 1)) / 86_400_000 / 7) + 1];
  };
  const sunday = (d: Date) => {
    const first = new Date(Date.UTC(d.getUTCFullYear(), 0, 1));
    return [d.getUTCFullYear(), Math.floor(((d.getTime() - first.getTime()) / 86_400_000 + first.getUTCDay()) / 7) + 1];
  };
  const naive = (d: Date, c: DateChoices) => {
    const month = d.getUTCMonth() + 1;
    const fiscalMonth = ((month - c.fiscalStart + 12) % 12) + 1;
    const begins = month >= c.fiscalStart ? d.getUTCFullYear() : d.getUTCFullYear() - 1;
    const [weekYear, week] = c.weeks === 'iso' ? iso(d) : sunday(d);
    const text = d.toISOString().slice(0, 10);
    return [
      text.replaceAll('-', ''),
      text,
      d.getUTCFullYear(),
      Math.ceil(month / 3),
      month,
      MONTHS[month - 1],
      weekYear,
      week,
      c.weeks === 'iso' ? d.getUTCDay() || 7 : d.getUTCDay() + 1,
      DAY_NAMES[d.getUTCDay()],
      [0, 6].includes(d.getUTCDay()) ? 't' : 'f',
      begins + (c.fiscalNamedBy === 'end' && c.fiscalStart > 1 ? 1 : 0),
      Math.ceil(fiscalMonth / 3),
      fiscalMonth,
    ].map(String);
  };
  test.each(Array.from({ length: 30 }, (_, seed) => seed))('seed %i', async (seed) => {
    const next = random(seed);
    const start = 9000 + next(15_000);
    const choices: DateChoices = {
      fullName: 'core.dim_date',
      from: day(start).toISOString().slice(0, 10),
      to: day(start + 799)
        .toISOString()
        .slice(0, 10),
      fiscalStart: 1 + next(12),
      fiscalNamedBy: next(2) ? 'end' : 'start',
      weeks: next(2) ? 'iso' : 'sunday',
    };
    const sql = dateDimension(choices);
    const project = readProject(
      new Map([
        ['layers.sql', 'create schema core;'],
        ['core/dim_date.sql', sql],
      ]),
    );
    expect(project.diagnostics).toEqual([]);
    const { query } = project.tables.get('core.dim_date') as Definition;
    const { rows } = await client.query<string[]>({ text: sql.slice(query!.start, query!.end), rowMode: 'array' });
    expect(rows).toEqual(Array.from({ length: 800 }, (_, i) => naive(day(start + i), choices)));
  });
});

describe('a raw vault', () => {
  const tables = vaultTables({
    source: 'landing.stay',
    entity: { name: 'stay', key: [{ name: 'stay_no', type: 'integer' }] },
    attributes: [
      { name: 'came', type: 'date' },
      { name: 'tonnes', type: 'numeric(10,2)' },
    ],
    related: [
      { name: 'ship', key: [{ name: 'hull', type: 'text' }], also: { table: 'landing.ship', columns: ['hull'] } },
      { name: 'pilot', key: [{ name: 'pilot_hull', type: 'text' }] },
    ],
    pointInTime: { from: '2026-01-01', to: '2026-01-08' },
    bridge: true,
  });
  const definitions = {
    ...SOURCES,
    ...Object.fromEntries(tables.map((t) => [`core/${t.name}.sql`, t.sql((name) => `core.${name}`)])),
  };
  const text = async (sql: string) =>
    (await client.query<{ t: string }>(`select r::text as t from (${sql}) as r order by 1`)).rows.map((r) => r.t);

  test('its tables are those that were asked for', () => {
    expect(tables.map((t) => t.name)).toEqual([
      'hub_stay',
      'hub_ship',
      'hub_pilot',
      'link_stay_ship',
      'link_stay_pilot',
      'sat_stay',
      'pit_stay',
      'bridge_stay',
    ]);
    expect(
      readProject(
        new Map(Object.entries({ 'layers.sql': 'create schema landing; create schema core;', ...definitions })),
      ).diagnostics,
    ).toEqual([]);
  });

  test.each([1, 2, 3])('day after day, seed %i', async (seed) => {
    const next = random(seed);
    const loads: Loads[] = [];
    for (const t of tables.filter((o) => !/^(pit|bridge)/.test(o.name)))
      loads.push(await loadsIn(client, SCHEMA, definitions, t.name));
    for (const l of loads) await l.reset();
    const seen = {
      stay: new Set<string>(),
      ship: new Set<string>(),
      pilot: new Set<string>(),
      ships: new Set<string>(),
      pilots: new Set<string>(),
    };
    let versions = 0;
    const last = new Map<string, string>();
    for (let day = 1; day < 7; day++) {
      await client.query(
        'drop table if exists ship, stay; create table ship (hull text, name text, flag text, tons numeric(8,1)); create table stay (stay_no integer, hull text, pilot_hull text, came date, tonnes numeric(10,2), note text)',
      );
      for (const hull of ['A', 'B', 'C', 'D'].filter(() => next(3) > 0)) {
        await client.query('insert into ship (hull) values ($1)', [hull]);
        seen.ship.add(hull);
      }
      for (let no = 1; no < 6; no++) {
        if (next(3) === 0) continue;
        const [hull, pilot, tonnes] = [next(5) === 0 ? null : 'ABX'[next(3)]!, 'PQ'[next(2)]!, `${next(3)}.00`];
        await client.query("insert into stay values ($1, $2, $3, '2026-01-01', $4, 'n')", [no, hull, pilot, tonnes]);
        seen.stay.add(String(no));
        seen.pilot.add(pilot);
        seen.pilots.add(`(${no},${pilot})`);
        if (hull !== null) {
          seen.ship.add(hull);
          seen.ships.add(`(${no},${hull})`);
        }
        if (last.get(String(no)) !== tonnes) versions++;
        last.set(String(no), tonnes);
      }
      for (const l of loads) await l.load(`2026-01-0${day} 12:00:00+00`);
      const keys = async (hub: string, key: string) => text(`select ${key} from hub_${hub} where ${hub}_hub <> 0`);
      expect(await keys('stay', 'stay_no')).toEqual([...seen.stay].sort().map((k) => `(${k})`));
      expect(await keys('ship', 'hull')).toEqual([...seen.ship].sort().map((k) => `(${k})`));
      expect(await keys('pilot', 'pilot_hull')).toEqual([...seen.pilot].sort().map((k) => `(${k})`));
      expect(await text('select stay_no, hull from link_stay_ship')).toEqual([...seen.ships].sort());
      expect(
        await text('select l.stay_no, p.pilot_hull from link_stay_pilot l join hub_pilot p using (pilot_hub)'),
      ).toEqual([...seen.pilots].sort());
      expect(
        await text('select h.stay_no, s.tonnes from sat_stay s join hub_stay h using (stay_hub) where s.is_current'),
      ).toEqual([...last].map(([k, v]) => `(${k},${v})`).sort());
      expect(await text('select count(*) from sat_stay')).toEqual([`(${versions})`]);
    }
    const query = (name: string) =>
      definitions[`core/${name}.sql` as keyof typeof definitions]
        .replace(/^[^]*?;\n\n/, '')
        .replaceAll('core.', `${SCHEMA}.`)
        .replace(/;\s*$/, '');
    const atEndOfDay = `select h.stay_hub, d::date as day, (select s.stay_sat from sat_stay s where s.stay_hub = h.stay_hub and tstzrange(s.valid_from, s.valid_to) @> (d + interval '1 day - 1 second') at time zone 'UTC') as stay_sat
      from hub_stay h, generate_series('2026-01-01'::timestamp, '2026-01-08', '1 day') d where h.stay_hub <> 0`;
    expect(await text(query('pit_stay'))).toEqual(await text(atEndOfDay));
    const over = `select h.stay_hub, h.stay_no, s.ship_hub, p.pilot_hub, s.hull, p.pilot_hull from hub_stay h left join link_stay_ship s using (stay_no) left join link_stay_pilot p using (stay_no) where h.stay_hub <> 0`;
    expect(await text(query('bridge_stay'))).toEqual(await text(over));
  });
});
