import { expect, jest, test } from '@jest/globals';
import { ident } from '@ouvrage/core/sql';
import { scratch } from '../testing-sql.js';
import { loadsIn } from './harness.js';
import { dice, hour } from './worlds.js';

/** Whatever columns and tables are called, their loads are the same: each contract is loaded under plain names and under awkward ones. */
const SCHEMA = 'names_test';
jest.setTimeout(300_000);
const client = scratch(SCHEMA);

type Names = Readonly<Record<string, string>>;
const PLAIN: Names = Object.fromEntries(
  ['t', 'd', 'key', 'x', 'y', 'at', 'id', 'other', 'other_key', 'valid_from', 'valid_to', 'is_current', 'was'].map(
    (name) => [name, name],
  ),
);
/** Names that a careless statement takes for something else: keywords, quotes, formats, parameters, and names of the load's own. */
const AWKWARD: readonly Names[] = [
  {
    t: 'Order "of" 50%',
    d: "it's $1; select",
    key: 'Key; "from"',
    x: 'op',
    y: 'row_id',
    at: 'user %s',
    id: 'table',
    other: 'q',
    other_key: 't',
    valid_from: 'from',
    valid_to: 'to -- $load$',
    is_current: 'current_user',
    was: 'old_from',
  },
  {
    t: 'changes',
    d: 'keys',
    key: 'replaced',
    x: 'starts',
    y: 'group_no',
    at: 'place',
    id: 'n_from',
    other: 'number',
    other_key: 'before_0',
    valid_from: 'version_from',
    valid_to: 'version_no',
    is_current: 'differs',
    was: 'kept_0',
  },
  { ...PLAIN, key: 'number', other: 'said', x: 'sharing', y: 'tied', other_key: 'begins', at: 'there' },
];

const VALID = `:valid_from timestamptz options (role 'valid from'), :valid_to timestamptz options (role 'valid to'), :is_current boolean options (role 'current flag')`;
const KEY = `business_key = '=key'`;
const FACT = `:other_key bigint options (looked_up_by '=other') references core.:d (:id)`;
const SHAPES = ['', ', shape = rewrite'];

/** `:name` stands for a name in SQL, `=name` for one in an option. */
const CASES: readonly (readonly [string, string])[] = [
  ['append', `:key text, :x text, :at timestamptz not null) with (load = append, watermark = '=at'`],
  [
    'append with a look-back',
    `:key text, :x text, :at timestamptz not null) with (load = append, watermark = '=at', look_back = '2 hours', ${KEY}`,
  ],
  [
    'dated',
    `:key text, :x text, :at timestamptz options (role 'as of'), :is_current boolean options (role 'current flag')) with (load = dated, ${KEY}`,
  ],
  ['events', `:key text, :x text, ${VALID}) with (load = history, ${KEY}, effective_from = '=at'`],
  [
    'events, numbered',
    `:id bigint options (role 'surrogate key'), :key text, :x text, ${VALID}) with (load = history, ${KEY}, effective_from = '=at'`,
  ],
  ...SHAPES.flatMap((shape) =>
    [
      ['merge', `:key text, :x text, :y text) with (load = merge, ${KEY}${shape}`],
      ['merge by a primary key', `:key text primary key, :x text, :y text) with (load = merge, ${KEY}${shape}`],
      [
        'merge of a condition, missing rows go',
        `:key text, :x text, :y text) with (load = merge, ${KEY}, set_columns = '=x', update_when = 'q.:x is not null and t.:key is not null', missing_rows = delete, empty = allow${shape}`,
      ],
      [
        'merge, numbered, stamped and flagged',
        `:id bigint options (role 'surrogate key'), :key text, :x text, :was timestamptz options (role 'loaded at'), :is_current boolean options (role 'deleted flag')) with (load = merge, ${KEY}, missing_rows = flag, empty = allow${shape}`,
      ],
      ['merge of a fact', `:key text, :x text, ${FACT}) with (load = merge, ${KEY}${shape}`],
      [
        'history',
        `:id bigint options (role 'surrogate key'), :key text, :x text, :y text, ${VALID}) with (load = history, ${KEY}, missing_rows = close, empty = allow${shape}`,
      ],
      [
        'history of which columns are overwritten',
        `:key text, :x text, :y text options (on_change 'overwrite'), :was text options (on_change 'previous', previous_of '=y'), ${VALID}) with (load = history, ${KEY}${shape}`,
      ],
    ].map(([name, contract]) => [name! + (shape === '' ? '' : ', all written anew'), contract!] as const),
  ),
  [
    'rebuild with look-ups',
    `:key text, :x text, ${FACT.replace("'=other'", "'=other', missing 'infer'")}) with (load = rebuild`,
  ],
];

/** Rows of four columns for each of some loads, all different, the same for each case. */
const DELIVERIES = Array.from({ length: 4 }, (_, load) => {
  const die = dice(load + 1);
  return ['a', 'b', 'c', 'd', 'e'].flatMap((key) =>
    die.below(4) === 0
      ? []
      : [
          {
            key,
            x: `x${die.below(3)}`,
            y: `y${die.below(3)}`,
            at: hour(2 * load + die.below(2)),
            other: `o${die.below(4)}`,
          },
        ],
  );
});

/** All that the loads left and counted, in the order of the columns. */
async function outcome(contract: string, names: Names): Promise<unknown[]> {
  const naming = (name: string) => names[name]!;
  const filled = contract.replace(/([:=])([a-z_]+)/g, (_, kind: string, name: string) =>
    names[name] === undefined ? _ : kind === ':' ? ident(naming(name)) : naming(name).replaceAll("'", "''"),
  );
  const columns = ['key', 'x', 'y', 'at', 'other'] as const;
  const n = (name: string) => ident(naming(name));
  const needed = columns.filter((c) => contract.includes(`:${c}`) || contract.includes(`=${c}`));
  const given = columns.map((c) => `${n(c)} ${c === 'at' ? 'timestamptz' : 'text'}`).join(', ');
  const files = {
    'sources/s.sql': `create server s foreign data wrapper postgres_fdw; create foreign table landing.src (${given}) server s;`,
    [`core/${naming('t')}.sql`]: `create table core.${n('t')} (${filled});\nselect ${needed.map(n).join(', ')} from landing.src;`,
    [`core/${naming('d')}.sql`]: `create table core.${n('d')} (${n('id')} bigint options (role 'surrogate key'), ${n('other')} text) with (load = merge, business_key = '${naming('other').replaceAll("'", "''")}');\nselect ${n('other')} from landing.src;`,
  };
  const [dimension, loads] = [
    await loadsIn(client, SCHEMA, files, naming('d')),
    await loadsIn(client, SCHEMA, files, naming('t')),
  ];
  await client.query(
    `drop table if exists src; create table src (${given}); insert into src (${n('other')}) values ('o1'), ('o2')`,
  );
  await dimension.reset();
  await dimension.load(hour(0));
  await loads.reset();
  const found: unknown[] = [];
  for (const [load, rows] of DELIVERIES.entries()) {
    await client.query('truncate src');
    for (const row of rows)
      await client.query(
        'insert into src values ($1, $2, $3, $4, $5)',
        Object.values({ ...row, at: contract.includes('as of') ? hour(load) : row.at }),
      );
    const counts = Object.entries(await loads.load(hour(10 + load)));
    found.push(new Map(counts.map(([what, n]) => [what.replace(`${naming('other_key')} `, 'other_key '), n])));
    const { rows: left } = await client.query<Record<string, string | null>>(`select * from ${n('t')}`);
    found.push(left.map((r) => Object.values(r).join(' ')).sort());
  }
  return found;
}

test.each(CASES)('%s', async (_, contract) => {
  const plain = await outcome(contract, PLAIN);
  expect((plain.at(-1) as unknown[]).length).toBeGreaterThan(2);
  for (const names of AWKWARD) expect(await outcome(contract, names)).toEqual(plain);
});
