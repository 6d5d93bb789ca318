import { describe, expect, test } from '@jest/globals';
import { connectTo, random, scratch } from '../testing-sql.js';
import { loadsIn, written } from './harness.js';

/**
 * Facts that arrive before their dimension: placeholders stand for members until they arrive, and
 * facts that point to them then point to the member. Dimensions of every policy, over random sequences.
 */
const SCHEMA = 'inferred_test';
const client = scratch(SCHEMA);

const HISTORY = `valid_from timestamptz options (role 'valid from') not null, valid_to timestamptz options (role 'valid to'),
  is_current boolean options (role 'current flag') not null, thing bigint options (role 'durable key') not null, `;
const POLICIES: readonly [string, string, string][] = [
  ['merge', '', "load = merge, business_key = 'hull, reg', missing_rows = delete, empty = allow"],
  [
    'merge, hash',
    '',
    "load = merge, business_key = 'hull, reg', missing_rows = delete, empty = allow, key_method = hash",
  ],
  ['merge that leaves rows out', '', "load = merge, business_key = 'hull, reg', insert_when = 'q.flag <> ''F0'''"],
  ['rebuild', '', "business_key = 'hull, reg'"],
  ['append', '', "load = append, business_key = 'hull, reg', watermark = 'at', look_back = '100 days'"],
  ['history by state', HISTORY, "load = history, business_key = 'hull, reg', missing_rows = close, empty = allow"],
  ['history by events', HISTORY, "load = history, business_key = 'hull, reg', effective_from = 'at'"],
];
const SOURCES = {
  'sources/s.sql': `create server s foreign data wrapper postgres_fdw;
    create foreign table landing.ships (hull text, reg text, flag text, at timestamptz) server s;
    create foreign table landing.calls (no integer, hull text, reg text, pilot_hull text, came timestamptz) server s;`,
};
const hour = (n: number) => new Date(Date.UTC(2026, 0, 1, n)).toISOString();
const SHIPS = ['A', 'B', 'C', 'D', 'E'];

describe.each(POLICIES)('into a dimension by %s', (name, columns, options) => {
  const ofHistory = columns !== '';
  const at = ofHistory ? '' : 'at timestamptz, ';
  const definitions = {
    ...SOURCES,
    'core/dim.sql': `create table core.dim (id bigint options (role 'surrogate key') primary key, hull text not null, reg text not null,
      ${at}${columns}flag text options (unknown 'none') not null constraint flag_is_known check (flag in ('F0', 'F1', 'F2'))) with (${options});
      select hull, reg, flag${name === 'history by state' ? '' : ', at'} from landing.ships;`,
    'core/fact.sql': `create table core.fact (no integer not null, came timestamptz,
      ship bigint options (looked_up_by 'hull, reg'${ofHistory ? ", at 'came'" : ''}, missing 'infer') not null references core.dim (id),
      pilot bigint options (looked_up_by 'pilot_hull, reg', missing 'infer') not null references core.dim (id)) with (load = merge, business_key = 'no');
      select no, hull, reg, pilot_hull, came from landing.calls;`,
  };

  test.each(Array.from({ length: 6 }, (_, seed) => seed))('seed %i', async (seed) => {
    const next = random(seed + 31);
    // Between two versions of a ship there is none to point to.
    const inGap = ofHistory
      ? `case when exists (select from dim v where v.hull = c.hull and c.came >= v.valid_from and (v.valid_to is null or c.came < v.valid_to))
          or c.came < (select min(valid_from) from dim v where v.hull = c.hull) then c.hull end`
      : 'c.hull';
    const leavesOut = name.includes('leaves');
    const dim = await loadsIn(client, SCHEMA, definitions, 'dim');
    const fact = await loadsIn(client, SCHEMA, definitions, 'fact');
    await client.query(
      'drop table if exists ships, calls; create table ships (hull text, reg text, flag text, at timestamptz); create table calls (no integer, hull text, reg text, pilot_hull text, came timestamptz)',
    );
    await dim.reset();
    await fact.reset();
    await dim.load(hour(0));
    const numbers = new Map<string, string>();
    const seen = new Set<string>();
    const asked = new Set<string>();
    let no = 1;
    for (let turn = 1; turn < 7; turn++) {
      // Facts come first, of ships that may not be known yet.
      for (let i = next(4); i >= 0; i--) {
        const hull = next(6) === 0 ? null : SHIPS[next(5)]!;
        const pilot = SHIPS[next(5)]!;
        await client.query("insert into calls values ($1, $2, '1', $3, $4)", [no++, hull, pilot, hour(turn * 10)]);
        for (const h of [hull, pilot]) if (h !== null) asked.add(h);
      }
      const counted = await fact.load(hour(turn * 10));
      const isThere = (h: string) => seen.has(h);
      const placeholders = [...asked].filter((h) => !isThere(h)).sort();
      expect(
        (await client.query('select hull from "dim~inferred" order by hull')).rows.map((r: { hull: string }) => r.hull),
      ).toEqual(placeholders);
      const pointing = await client.query<{ hull: string | null; pilot_hull: string; id: string; pilot_id: string }>(
        `select ${inGap} as hull, c.pilot_hull, d.hull as id, p.hull as pilot_id from fact f join calls c using (no) join dim d on d.id = f.ship join dim p on p.id = f.pilot`,
      );
      expect(pointing.rows).toHaveLength(no - 1);
      for (const r of pointing.rows) expect([r.id, r.pilot_id]).toEqual([r.hull ?? '', r.pilot_hull]);
      expect(counted['ship inferred']).toBe(pointing.rows.filter((r) => r.hull !== null && !isThere(r.hull)).length);
      expect(counted['pilot inferred']).toBe(pointing.rows.filter((r) => !isThere(r.pilot_hull)).length);
      for (const h of placeholders) {
        const { rows } = await client.query<{ id: string; flag: string }>('select id, flag from dim where hull = $1', [
          h,
        ]);
        expect(rows).toEqual([{ id: numbers.get(h) ?? rows[0]!.id, flag: 'none' }]);
        numbers.set(h, rows[0]!.id);
      }
      const facts = await written(client, 'fact');
      await fact.load(hour(turn * 10 + 1));
      expect(await written(client, 'fact')).toBe(facts);
      // Then ships arrive.
      const arriving = SHIPS.filter(() => next(3) === 0);
      if (name !== 'append') await client.query('truncate ships');
      for (const h of arriving.filter((s) => name !== 'append' || !seen.has(s)))
        await client.query("insert into ships values ($1, '1', $2, $3)", [h, `F${next(3)}`, hour(turn * 10 + 2)]);
      const taken = (
        await client.query<{ hull: string }>(`select hull from ships${leavesOut ? " where flag <> 'F0'" : ''}`)
      ).rows.map((r) => r.hull);
      // What is rebuilt begins empty.
      if (name === 'rebuild') await client.query('truncate dim');
      const done = await dim.load(hour(turn * 10 + 5));
      const completing = taken.filter((h) => placeholders.includes(h));
      expect(done['completed']).toBe(completing.length);
      for (const h of taken) seen.add(h);
      for (const h of completing) {
        const { rows } = await client.query<{ id: string; flag: string }>('select id, flag from dim where hull = $1', [
          h,
        ]);
        expect(rows).toEqual([{ id: numbers.get(h), flag: expect.stringMatching(/^F/) }]);
      }
      // A table of copies of the query loses members that the query has lost.
      if (name.startsWith('merge') && !leavesOut) for (const h of [...seen]) if (!taken.includes(h)) seen.delete(h);
      if (name === 'rebuild') for (const h of [...seen]) if (!taken.includes(h)) seen.delete(h);
      if (!name.startsWith('history') && name !== 'append' && !leavesOut)
        for (const h of SHIPS) if (!seen.has(h) && !placeholders.includes(h)) asked.delete(h);
      if (name !== 'rebuild') {
        const before = await written(client, 'dim');
        await dim.load(hour(turn * 10 + 6));
        expect(await written(client, 'dim')).toBe(before);
      }
      // Facts whose member went ask for it again.
      for (const h of (
        await client.query<{ h: string }>(
          'select hull as h from calls where hull is not null union select pilot_hull from calls',
        )
      ).rows)
        asked.add(h.h);
    }
  });
});

describe.each(POLICIES.filter(([name]) => /^(merge|history by state)$/.test(name)))(
  'facts that load at the same time, into a dimension by %s',
  (_, columns, options) => {
    const fact = (name: string) => `create table core.${name} (no integer not null,
    ship bigint options (looked_up_by 'hull, reg', missing 'infer'${columns === '' ? '' : ", at 'came'"}) not null references core.dim (id)) with (load = merge, business_key = 'no');
    select no, hull, reg${columns === '' ? '' : ', came'} from landing.calls where no % 2 = ${name === 'odd' ? 1 : 0};`;
    const definitions = {
      ...SOURCES,
      'core/dim.sql': `create table core.dim (id bigint options (role 'surrogate key') primary key, hull text not null, reg text not null,
      ${columns}flag text options (unknown 'none') not null) with (${options}); select hull, reg, flag from landing.ships;`,
      'core/odd.sql': fact('odd'),
      'core/even.sql': fact('even'),
    };

    test.each([1, 2, 3, 4, 5])('ask for the same members and point to one each, seed %i', async (seed) => {
      const next = random(seed);
      const other = await connectTo(SCHEMA);
      try {
        const dim = await loadsIn(client, SCHEMA, definitions, 'dim');
        const [odd, even] = [
          await loadsIn(client, SCHEMA, definitions, 'odd'),
          await loadsIn(other, SCHEMA, definitions, 'even'),
        ];
        await client.query(
          'drop table if exists ships, calls; create table ships (hull text, reg text, flag text); create table calls (no integer, hull text, reg text, came timestamptz)',
        );
        for (const table of [dim, odd, even]) await table.reset();
        await dim.load(hour(0));
        for (let turn = 1; turn < 5; turn++) {
          for (let no = 0; no < 40; no++)
            await client.query("insert into calls values ($1, $2, '1', $3)", [
              turn * 40 + no,
              `${turn}-${turn % 2 ? no : next(60)}`,
              hour(turn),
            ]);
          await Promise.all([odd.load(hour(turn)), even.load(hour(turn))]);
          const { rows } = await client.query(
            `select count(*) as facts, count(*) filter (where d.hull = c.hull) as theirs, (select count(*) - count(distinct hull) from dim) as repeated
           from (select * from odd union all select * from even) as f join calls as c using (no) join dim as d on d.id = f.ship`,
          );
          expect(rows).toEqual([{ facts: String(turn * 40), theirs: String(turn * 40), repeated: '0' }]);
        }
      } finally {
        await other.end();
      }
    });
  },
);
