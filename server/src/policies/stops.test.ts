import { describe, expect, test } from '@jest/globals';
import { scratch } from '../testing-sql.js';
import { loadsOf, written } from './harness.js';
import type { Row } from './models.js';
import { fill, holds, hour, source } from './worlds.js';

const SCHEMA = 'stops_test';
const client = scratch(SCHEMA);

describe('what stops a load leaves the table as it was', () => {
  const key = 'key text, x text';
  const merge = `${key}) with (load = merge, business_key = 'key'`;
  const history = `${key}, valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'key'`;
  const first: Row[] = [
    { key: 'a', x: '1' },
    { key: 'b', x: '1' },
    { key: 'c', x: '1' },
  ];
  test.each<[string, string, Row[], string, number]>([
    ['a null key in a merge', `${merge})`, [{ key: null, x: '1' }], 'the query returns rows whose key is null', 1],
    [
      'a repeated key in a merge',
      `${merge})`,
      [
        { key: 'a', x: '1' },
        { key: 'a', x: '2' },
        { key: 'b', x: '2' },
      ],
      'the query returns more than one row for a key',
      2,
    ],
    ['no row where missing rows are deleted', `${merge}, missing_rows = delete)`, [], 'the query returns no rows', 1],
    [
      'too many rows gone',
      `${merge}, missing_rows = delete, largest_loss = '50%')`,
      [{ key: 'a', x: '1' }],
      'the load would remove more than 50% of the rows',
      2,
    ],
    [
      'too many rows flagged',
      `key text, x text, gone boolean options (role 'deleted flag')) with (load = merge, business_key = 'key', missing_rows = flag, largest_loss = 1)`,
      [{ key: 'a', x: '1' }],
      'the load would remove more than 1 of the rows',
      2,
    ],
    ['a null key in a history', `${history})`, [{ key: null, x: '1' }], 'the query returns rows whose key is null', 1],
    [
      'a repeated key in a history',
      `${history})`,
      [
        { key: 'b', x: '1' },
        { key: 'b', x: '2' },
      ],
      'the query returns more than one row for a key',
      2,
    ],
    ['no row where versions are closed', `${history}, missing_rows = close)`, [], 'the query returns no rows', 1],
    [
      'too many versions closed',
      `${history}, missing_rows = close, largest_loss = 1)`,
      [{ key: 'a', x: '1' }],
      'the load would remove more than 1 of the rows',
      2,
    ],
  ])('%s', async (_, contract, rows, message, atFault) => {
    const loads = await loadsOf(client, SCHEMA, contract, 'select key, x from landing.src', source('key text, x text'));
    await loads.reset();
    await fill(client, ['key', 'x'], first);
    await loads.load(hour(1));
    const before = await written(client, 't');
    await fill(client, ['key', 'x'], rows);
    await expect(loads.load(hour(2))).rejects.toMatchObject({ message, rows: { length: atFault } });
    expect(await written(client, 't')).toBe(before);
  });

  test('largest_loss is measured against what is open, and counts what delete_when removes', async () => {
    const contract = `key text, x text, gone boolean options (role 'deleted flag')) with (load = merge, business_key = 'key', missing_rows = flag, largest_loss = '50%')`;
    const loads = await loadsOf(client, SCHEMA, contract, 'select key, x from landing.src', source('key text, x text'));
    await loads.reset();
    await fill(client, ['key', 'x'], first);
    await loads.load(hour(1));
    await fill(client, ['key', 'x'], first.slice(0, 2));
    await loads.load(hour(2));
    // One of three is flagged: of the two that are open, one is half, two are more.
    await fill(client, ['key', 'x'], first.slice(0, 1));
    await loads.load(hour(3));
    await fill(client, ['key', 'x'], [{ key: 'd', x: '1' }]);
    await expect(loads.load(hour(4))).rejects.toMatchObject({
      message: 'the load would remove more than 50% of the rows',
      rows: [{ key: 'a', x: '1', gone: 'f' }],
    });
    const deleting = await loadsOf(
      client,
      SCHEMA,
      `${merge}, delete_when = 'q.x = ''9''', largest_loss = 1)`,
      'select key, x from landing.src',
      source('key text, x text'),
    );
    await deleting.reset();
    await fill(client, ['key', 'x'], first);
    await deleting.load(hour(1));
    await fill(
      client,
      ['key', 'x'],
      first.map((r) => ({ ...r, x: '9' })),
    );
    await expect(deleting.load(hour(2))).rejects.toMatchObject({
      message: 'the load would remove more than 1 of the rows',
      rows: { length: 3 },
    });
  });

  test.each(['in_place', 'rewrite'])(
    'a member that returns loses its flag whatever update_when says (%s)',
    async (shape) => {
      const contract = `key text, x text, gone boolean options (role 'deleted flag')) with (load = merge, business_key = 'key', missing_rows = flag, update_when = 'q.x > t.x', shape = ${shape})`;
      const loads = await loadsOf(
        client,
        SCHEMA,
        contract,
        'select key, x from landing.src',
        source('key text, x text'),
      );
      await loads.reset();
      await fill(
        client,
        ['key', 'x'],
        [
          { key: 'a', x: '5' },
          { key: 'b', x: '5' },
        ],
      );
      await loads.load(hour(1));
      await fill(client, ['key', 'x'], [{ key: 'b', x: '5' }]);
      await loads.load(hour(2));
      await fill(
        client,
        ['key', 'x'],
        [
          { key: 'a', x: '3' },
          { key: 'b', x: '5' },
        ],
      );
      expect(await loads.load(hour(3))).toMatchObject({ updated: 1 });
      expect((await client.query(`select key, x, gone from ${SCHEMA}.t order by 1`)).rows).toEqual([
        { key: 'a', x: '5', gone: 'f' },
        { key: 'b', x: '5', gone: 'f' },
      ]);
    },
  );

  const events = `${key}, valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to')) with (load = history, business_key = 'key', effective_from = 'at'`;
  test.each<[string, string, Row[], string | undefined]>([
    [
      'two events of one instant, without an order',
      `${events})`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '2', at: hour(1), seq: '2' },
      ],
      'two events of a key disagree about one instant',
    ],
    [
      'two events of one instant with the same order',
      `${events}, order_within = 'seq')`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '2', at: hour(1), seq: '1' },
      ],
      'two events of a key disagree about one instant',
    ],
    [
      'two events of one instant, ordered',
      `${events}, order_within = 'seq')`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '2', at: hour(1), seq: '2' },
      ],
      undefined,
    ],
    [
      'an event without an instant',
      `${events})`,
      [{ key: 'a', x: '1', at: null, seq: '1' }],
      'the query returns rows whose key, at is null',
    ],
    [
      'the same event twice',
      `${events})`,
      [
        { key: 'a', x: '1', at: hour(1), seq: '1' },
        { key: 'a', x: '1', at: hour(1), seq: '1' },
      ],
      undefined,
    ],
  ])('%s', async (_, contract, rows, message) => {
    const order = contract.includes('order_within') ? ', seq' : '';
    const loads = await loadsOf(
      client,
      SCHEMA,
      contract,
      `select key, x, at${order} from landing.src`,
      source('key text, x text, at timestamptz, seq bigint'),
    );
    await loads.reset();
    await fill(client, ['key', 'x', 'at', 'seq'], rows, ['text', 'text', 'timestamptz', 'bigint']);
    if (message === undefined) expect(await loads.load(hour(2))).toMatchObject({ 'new events': expect.any(Number) });
    else await expect(loads.load(hour(2))).rejects.toThrow(message);
  });

  // A key of one number is tested by another question than one of text.
  describe.each(['bigint', 'text'])('deliveries whose key is of type %s', (type) => {
    const of = (rows: readonly [key: string | null, day: string | null][]) =>
      rows.map(([k, day]): Row => ({ key: k, day: day && `2026-01-0${day}` }));
    test.each<[string, Row[], string | undefined]>([
      [
        'one key on two dates',
        of([
          ['1', '1'],
          ['1', '2'],
          ['2', '2'],
        ]),
        undefined,
      ],
      [
        'one row without a key on each date',
        of([
          [null, '1'],
          [null, '2'],
          ['1', '2'],
        ]),
        undefined,
      ],
      [
        'a key twice on a date',
        of([
          ['1', '1'],
          ['2', '1'],
          ['2', '1'],
          ['2', '2'],
        ]),
        'the query returns more than one row for a key, day',
      ],
      [
        'two rows without a key on a date',
        of([
          [null, '1'],
          [null, '1'],
        ]),
        'the query returns more than one row for a key, day',
      ],
      [
        'a row without a date',
        of([
          ['1', '1'],
          ['1', null],
        ]),
        'the query returns rows whose day is null',
      ],
    ])('%s', async (_, rows, message) => {
      const contract = `key ${type}, day date options (role 'as of')) with (load = dated, business_key = 'key')`;
      const loads = await loadsOf(
        client,
        SCHEMA,
        contract,
        'select key, day from landing.src',
        source(`key ${type}, day date`),
      );
      await loads.reset();
      await fill(client, ['key', 'day'], rows, [type, 'date']);
      if (message !== undefined) return void (await expect(loads.load(hour(2))).rejects.toThrow(message));
      await loads.load(hour(2));
      await holds(client, ['key', 'day'], rows, 0);
    });
  });

  test.each([
    ['two open versions', "('a', '1', '2025-01-01', null)"],
    ['versions that overlap', "('a', '0', '2024-01-01', '2025-12-31')"],
  ])('%s, which something else has made', async (_, version) => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      `${history})`,
      'select key, x from landing.src',
      source('key text, x text'),
    );
    await loads.reset();
    await fill(client, ['key', 'x'], first);
    await loads.load(hour(1));
    await client.query(`update t set valid_from = '2025-06-01'; insert into t values ${version}`);
    const before = await written(client, 't');
    await fill(client, ['key', 'x'], [{ key: 'a', x: '2' }]);
    await expect(loads.load(hour(2))).rejects.toThrow(/two open versions|two versions of a key overlap/);
    expect(await written(client, 't')).toBe(before);
  });

  test('a null watermark', async () => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      "key text, at timestamptz) with (load = append, watermark = 'at')",
      'select key, at from landing.src',
      source('key text, at timestamptz'),
    );
    await loads.reset();
    await fill(client, ['key', 'at'], [{ key: 'a', at: null }], ['text', 'timestamptz']);
    await expect(loads.load(hour(1))).rejects.toThrow('rows without a watermark (at)');
  });

  test('a state that comes back after a forgotten repeat: A at 1, A again at 5, then late B at 3', async () => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      `${events})`,
      'select key, x, at from landing.src',
      source('key text, x text, at timestamptz'),
    );
    await loads.reset();
    for (const [x, at] of [
      ['A', 1],
      ['A', 5],
      ['B', 3],
    ] as const) {
      await fill(client, ['key', 'x', 'at'], [{ key: 'k', x, at: hour(at) }], ['text', 'text', 'timestamptz']);
      await loads.load(hour(10 + at));
    }
    await holds(
      client,
      ['x', 'valid_from', 'valid_to'],
      [
        { x: 'A', valid_from: hour(1), valid_to: hour(3) },
        { x: 'B', valid_from: hour(3), valid_to: hour(5) },
        { x: 'A', valid_from: hour(5), valid_to: null },
      ],
      0,
    );
  });
});

describe('json, which has no equality of its own, is compared as jsonb', () => {
  const said = (x: string, j: string, n = 1): Row => ({ key: 'a', x, j, at: hour(n), day: '2026-01-0' + String(n) });
  const versions = `valid_from timestamptz options (role 'valid from'), valid_to timestamptz options (role 'valid to')`;
  test.each<[string, string, string]>([
    ['a merge', `key text, x text, j json) with (load = merge, business_key = 'key')`, 'key, x, j'],
    [
      'a merge written anew',
      `key text, x text, j json) with (load = merge, business_key = 'key', shape = rewrite)`,
      'key, x, j',
    ],
    ['a history', `key text, x text, j json, ${versions}) with (load = history, business_key = 'key')`, 'key, x, j'],
    [
      'a history from events',
      `key text, x text, j json, ${versions}) with (load = history, business_key = 'key', effective_from = 'at')`,
      'key, x, j, at',
    ],
    [
      'a history from events that keeps the one before',
      `key text, x text, j json options (on_change 'overwrite'), was json options (on_change 'previous', previous_of 'j'), seen timestamptz options (role 'loaded at'), ${versions}) with (load = history, business_key = 'key', effective_from = 'at')`,
      'key, x, j, at',
    ],
    [
      'copies by date',
      `key text, x text, j json, day date options (role 'as of')) with (load = dated, business_key = 'key')`,
      'key, x, j, day',
    ],
  ])('%s', async (_, contract, columns) => {
    const loads = await loadsOf(
      client,
      SCHEMA,
      contract,
      `select ${columns} from landing.src`,
      source('key text, x text, j json, at timestamptz, day date'),
    );
    const types = ['text', 'text', 'json', 'timestamptz', 'date'];
    await loads.reset();
    await fill(client, ['key', 'x', 'j', 'at', 'day'], [said('1', '{"a": 1, "b": 2}')], types);
    await loads.load(hour(2));
    const before = await written(client, 't');
    await fill(client, ['key', 'x', 'j', 'at', 'day'], [said('1', '{"b":2,"a":1}')], types);
    await loads.load(hour(3));
    expect(await written(client, 't')).toBe(before);
    await fill(client, ['key', 'x', 'j', 'at', 'day'], [said('1', '{"a": 1, "b": 3}', 2)], types);
    await loads.load(hour(4));
    expect((await client.query(`select 1 from ${SCHEMA}.t where j ->> 'b' = '3'`)).rows).toHaveLength(1);
  });
});
