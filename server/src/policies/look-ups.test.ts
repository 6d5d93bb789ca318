import { describe, expect, test } from '@jest/globals';
import { asOfQuery, compareQuery, versionsQuery, type HistoryTable } from '@ouvrage/core/look';
import { random, scratch } from '../testing-sql.js';
import { loadsOf, written } from './harness.js';

/** Keys that facts look up, and the views of a history, against plain computations over random versions. */
const SCHEMA = 'look_ups_test';
const client = scratch(SCHEMA);

const DAY = (n: number) => `2026-01-${String(n).padStart(2, '0')}`;
interface Version {
  readonly id: string;
  readonly hull: string;
  readonly reg: string;
  readonly flag: string;
  readonly from: number;
  readonly to: number | null;
}

/** Versions of four members with two-part keys: half-open, without overlap, some with gaps, some closed. */
function versionsOf(seed: number): Version[] {
  const next = random(seed);
  let id = 1;
  return ['A', 'B', 'C', 'D'].flatMap((hull) => {
    const found: Version[] = [];
    for (let day = 2 + next(5); day < 19;) {
      const to = day + 1 + next(9);
      const last = next(4) === 0;
      found.push({ id: String(id++), hull, reg: '1', flag: `F${next(3)}`, from: day, to: last ? null : to });
      if (last) break;
      day = to + (next(3) === 0 ? 2 : 0);
    }
    return found;
  });
}

async function fillDimension(versions: readonly Version[]): Promise<void> {
  await client.query(
    'drop table if exists dim; create table dim (id bigint, hull text, reg text, flag text, valid_from date, valid_to date, is_current boolean)',
  );
  await client.query('create table if not exists "dim~keys" (hull text, reg text, valid_from date, number bigint)');
  await client.query("insert into dim values (0, '', '', '', '-infinity', null, true)");
  for (const v of versions)
    await client.query('insert into dim values ($1, $2, $3, $4, $5, $6, $7)', [
      v.id,
      v.hull,
      v.reg,
      v.flag,
      DAY(v.from),
      v.to && DAY(v.to),
      v.to === null,
    ]);
}

const DIMENSION = {
  'core/dim.sql': `create table core.dim (id bigint options (role 'surrogate key') primary key, hull text not null, reg text not null, flag text,
    valid_from date options (role 'valid from'), valid_to date options (role 'valid to'), is_current boolean options (role 'current flag'))
    with (load = history, business_key = 'hull, reg');
    select hull, reg, flag from landing.ships;`,
  'sources/s.sql': `create server s foreign data wrapper postgres_fdw;
    create foreign table landing.ships (hull text, reg text, flag text) server s;
    create foreign table landing.calls (no integer, hull text, reg text, pilot_hull text, came date) server s;`,
};

describe('keys are looked up', () => {
  const key = (name: string, options: string) =>
    `${name} bigint options (${options}) not null references core.dim (id)`;
  test.each(Array.from({ length: 40 }, (_, seed) => seed))('seed %i', async (seed) => {
    const versions = versionsOf(seed);
    await fillDimension(versions);
    const next = random(seed + 900);
    const calls = Array.from({ length: 30 }, (_, no) => ({
      no,
      hull: next(8) === 0 ? null : 'ABCDX'[next(5)]!,
      reg: next(9) === 0 ? '2' : '1',
      pilot: 'ABCD'[next(4)]!,
      came: next(10) === 0 ? null : 1 + next(28),
    }));
    await client.query(
      'drop table if exists calls; create table calls (no integer, hull text, reg text, pilot_hull text, came date)',
    );
    for (const c of calls)
      await client.query('insert into calls values ($1, $2, $3, $4, $5)', [
        c.no,
        c.hull,
        c.reg,
        c.pilot,
        c.came && DAY(c.came),
      ]);
    const loads = await loadsOf(
      client,
      SCHEMA,
      `no integer not null, ${key('ship', "looked_up_by 'hull, reg', at 'came'")}, ${key('strict', "looked_up_by 'hull, reg', at 'came', before_first 'unknown'")}, ${key('pilot', "looked_up_by 'pilot_hull, one'")}) with (load = merge, business_key = 'no')`,
      "select no, hull, reg, pilot_hull, '1' as one, came from landing.calls",
      DIMENSION,
    );
    await loads.reset();
    const counted = await loads.load('2026-02-01');
    const find = (hull: string | null, reg: string, day: number | null, first: boolean): string => {
      const own = versions.filter((v) => v.hull === hull && v.reg === reg);
      if (day === null || own.length === 0) return '0';
      const then = own.find((v) => v.from <= day && (v.to === null || day < v.to));
      return then?.id ?? (first && day < own[0]!.from ? own[0]!.id : '0');
    };
    const expected = calls.map((c) => ({
      no: String(c.no),
      ship: find(c.hull, c.reg, c.came, true),
      strict: find(c.hull, c.reg, c.came, false),
      pilot: versions.filter((v) => v.hull === c.pilot).at(-1)?.id ?? '0',
    }));
    expect((await client.query('select no, ship, strict, pilot from t order by no::integer')).rows).toEqual(expected);
    expect(counted).toMatchObject({
      'ship unknown': expected.filter((e) => e.ship === '0').length,
      'strict unknown': expected.filter((e) => e.strict === '0').length,
      'ship before the first version': expected.filter((e) => e.ship !== e.strict).length,
    });
    // A table remade takes the keys while its rows are written, or after its query's rows were kept: the same either way.
    for (const from of ['landing.calls', '(select * from landing.calls limit 100) as c']) {
      const rebuilt = await loadsOf(
        client,
        SCHEMA,
        `no integer not null, ${key('strict', "looked_up_by 'hull, reg', at 'came', before_first 'unknown'")}, ${key('pilot', "looked_up_by 'pilot_hull, one'")}) with (load = rebuild)`,
        `select no, hull, reg, pilot_hull, '1' as one, came from ${from}`,
        DIMENSION,
      );
      expect(await rebuilt.load('2026-02-01')).toEqual({
        inserted: calls.length,
        'strict unknown': expected.filter((e) => e.strict === '0').length,
        'pilot unknown': expected.filter((e) => e.pilot === '0').length,
      });
      expect((await client.query('select no, strict, pilot from t order by no::integer')).rows).toEqual(
        expected.map(({ no, strict, pilot }) => ({ no, strict, pilot })),
      );
    }
    const [of] = versions;
    if (!of || !calls.some((c) => c.hull === of.hull && c.reg === of.reg && c.came === of.from)) return;
    await client.query(
      'insert into dim select id + 100, hull, reg, flag, valid_from, valid_to, is_current from dim where id = $1',
      [of.id],
    );
    const twice = await loadsOf(
      client,
      SCHEMA,
      `no integer not null, ${key('strict', "looked_up_by 'hull, reg', at 'came', before_first 'unknown'")}) with (load = rebuild)`,
      'select no, hull, reg, came from landing.calls',
      DIMENSION,
    );
    await expect(twice.load('2026-02-01')).rejects.toMatchObject({ message: 'looking up keys multiplied rows' });
  });

  test.each([0, 1, 2, 3, 4, 5])(
    'rows that the query no longer returns are looked up again when their dimension changes, seed %i',
    async (seed) => {
      const next = random(seed + 77);
      await client.query(
        'drop table if exists calls; create table calls (no integer, hull text, reg text, pilot_hull text, came date)',
      );
      const loads = await loadsOf(
        client,
        SCHEMA,
        `no integer not null, hull text, reg text, came date, ${key('ship', "looked_up_by 'hull, reg', at 'came'")}, ${key('pilot', "looked_up_by 'pilot_hull, reg'")}) with (load = merge, business_key = 'no'${seed % 2 ? ', shape = rewrite' : ''})`,
        'select no, hull, reg, pilot_hull, came from landing.calls where no % 2 = 0',
        DIMENSION,
      );
      await loads.reset();
      await fillDimension([]);
      for (let no = 0; no < 20; no++)
        await client.query("insert into calls values ($1, $2, '1', 'A', $3)", [
          no * 2,
          'ABCDX'[next(5)],
          DAY(1 + next(28)),
        ]);
      await loads.load('2026-02-01');
      // Half of the calls leave the query; then ships arrive.
      await client.query('update calls set no = no + 1 where no % 4 = 0');
      await fillDimension(versionsOf(seed));
      const counted = await loads.load('2026-02-02');
      const { rows } = await client.query<{ no: string; ship: string; should: string; pilot: string }>(
        `select t.no, t.ship, t.pilot, coalesce((select id from dim d where d.hull = t.hull and d.reg = t.reg and d.id <> 0 and t.came >= d.valid_from and (d.valid_to is null or t.came < d.valid_to)),
        (select id from dim d where d.hull = t.hull and d.reg = t.reg and d.id <> 0 and t.came < d.valid_from and not exists (select from dim e where e.hull = d.hull and e.reg = d.reg and e.id <> 0 and e.valid_from < d.valid_from)), 0) as should
       from t order by t.no::integer`,
      );
      expect(rows.map((r) => r.ship)).toEqual(rows.map((r) => r.should));
      expect(counted['looked up again']).toBe(
        rows.filter((r) => Number(r.no) % 4 === 0 && (r.ship !== '0' || r.pilot !== '0')).length,
      );
      // The pilot's hull is not kept in the table, but remembered beside it.
      const pilots = versionsOf(seed).filter((v) => v.hull === 'A');
      expect(new Set(rows.map((r) => r.pilot))).toEqual(new Set([pilots.at(-1)?.id ?? '0']));
      const before = await written(client, 't');
      await loads.load('2026-02-03');
      expect(await written(client, 't')).toBe(before);
    },
  );

  test.each(Array.from({ length: 12 }, (_, seed) => seed))(
    'rows are looked up again by what the table does not keep, seed %i',
    async (seed) => {
      const next = random(seed + 177);
      const loads = await loadsOf(
        client,
        SCHEMA,
        `no integer not null, ${key('ship', "looked_up_by 'hull, reg', at 'came'")}) with (load = merge, business_key = 'no', shape = ${seed % 2 ? 'rewrite' : 'in_place'})`,
        'select no, hull, reg, came from landing.calls',
        DIMENSION,
      );
      await loads.reset();
      const all = versionsOf(seed);
      const known = new Set<string>();
      const model = new Map<number, { hull: string | null; came: number; ship: string }>();
      const find = ({ hull, came }: { hull: string | null; came: number }) => {
        const versions = known.has(hull ?? '') ? all.filter((v) => v.hull === hull) : [];
        const valid = versions.find((v) => v.from <= came && (v.to === null || came < v.to));
        return (valid ?? (versions[0] && came < versions[0].from ? versions[0] : undefined))?.id ?? '0';
      };
      for (let load = 1; load < 7; load++) {
        if (load > 1) known.add('ABCD'[next(4)]!);
        await fillDimension(all.filter((v) => known.has(v.hull)));
        const said = Array.from({ length: 12 }, (_, no) => ({
          no,
          hull: next(6) === 0 ? null : 'ABCDX'[next(5)]!,
          came: 1 + next(28),
        })).filter(() => next(3) > 0);
        await client.query(
          'drop table if exists calls; create table calls (no integer, hull text, reg text, pilot_hull text, came date)',
        );
        for (const { no, hull, came } of said)
          await client.query("insert into calls values ($1, $2, '1', null, $3)", [no, hull, DAY(came)]);
        await loads.load(DAY(load));
        for (const [no, row] of model)
          if (row.ship === '0' && !said.some((x) => x.no === no)) model.set(no, { ...row, ship: find(row) });
        for (const { no, ...row } of said) model.set(no, { ...row, ship: find(row) });
        const { rows } = await client.query<{ no: number; ship: string }>('select no, ship from t');
        expect(new Map(rows.map((r) => [Number(r.no), r.ship]))).toEqual(
          new Map([...model].map(([no, { ship }]) => [no, ship])),
        );
        // Only what was asked for and is not found yet is remembered.
        const waiting = await client.query<{ no: number }>('select no from "t~asked" order by no');
        const should = [...model].flatMap(([no, { hull, ship }]) => (ship === '0' && hull !== null ? [no] : []));
        expect(waiting.rows.map((r) => Number(r.no))).toEqual(should.sort((a, b) => a - b));
        const before = [await written(client, 't'), await written(client, '"t~asked"')];
        await loads.load(DAY(load));
        expect([await written(client, 't'), await written(client, '"t~asked"')]).toEqual(before);
      }
    },
  );

  test('a member that may not be missing stops the load and is named', async () => {
    await fillDimension(versionsOf(1));
    await client.query(
      "drop table if exists calls; create table calls (no integer, hull text, reg text, pilot_hull text, came date); insert into calls values (1, 'X', '1', 'A', '2026-01-20'), (2, null, '1', 'A', '2026-01-20')",
    );
    const loads = await loadsOf(
      client,
      SCHEMA,
      `no integer not null, ${key('ship', "looked_up_by 'hull, reg', missing 'stop'")}) with (load = merge, business_key = 'no')`,
      'select no, hull, reg from landing.calls',
      DIMENSION,
    );
    await loads.reset();
    await expect(loads.load('2026-02-01')).rejects.toMatchObject({
      message: 'core.dim does not know these hull, reg',
      rows: [{ hull: 'X', reg: '1' }],
    });
  });
});

describe('a history through time', () => {
  const table: HistoryTable = {
    fullName: `${SCHEMA}.dim`,
    key: ['hull', 'reg'],
    validFrom: 'valid_from',
    validTo: 'valid_to',
    columns: ['hull', 'reg', 'flag', 'valid_from', 'valid_to'],
  };
  const rowsOf = async (sql: string) => (await client.query<Record<string, string | null>>(sql)).rows;
  test.each(Array.from({ length: 20 }, (_, seed) => seed))('seed %i', async (seed) => {
    const versions = versionsOf(seed + 50);
    await fillDimension(versions);
    await client.query('delete from dim where id = 0');
    const next = random(seed);
    const [a, b] = [1 + next(28), 1 + next(28)];
    const asOf = (day: number) => versions.filter((v) => v.from <= day && (v.to === null || day < v.to));
    expect((await rowsOf(asOfQuery(table, DAY(a)))).map((r) => r['id'])).toEqual(asOf(a).map((v) => v.id));
    expect((await rowsOf(versionsQuery(table, ['B', '1']))).map((r) => r['id'])).toEqual(
      versions.filter((v) => v.hull === 'B').map((v) => v.id),
    );
    const compared = ['A', 'B', 'C', 'D'].flatMap((hull) => {
      const [x, y] = [asOf(a), asOf(b)].map((list) => list.find((v) => v.hull === hull)?.flag);
      return x === y
        ? []
        : [
            {
              change: x === undefined ? 'came' : y === undefined ? 'went' : 'changed',
              hull,
              reg: '1',
              flag: `${x ?? 'null'} → ${y ?? 'null'}`,
            },
          ];
    });
    expect(await rowsOf(compareQuery(table, DAY(a), DAY(b)))).toEqual(compared);
  });
});
