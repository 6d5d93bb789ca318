import { afterAll, beforeAll, beforeEach, describe, expect, jest, test } from '@jest/globals';
import pg from 'pg';
import { Config } from '../shared/config.js';
import { scratch } from '../testing-sql.js';
import {
  ModelTable,
  type ModelColumn,
  type ModelRow,
  type OnChange,
  type Rules,
  type Said,
  type Value,
} from './changing-models.js';
import { Releases, type Treatments } from './releasing.js';
import { dice, fill, hour } from './worlds.js';

/**
 * Contracts that change between loads: columns widened, added, dropped, renamed, keys widened and renamed, tables
 * renamed, `on_change` switched, versions corrected, tables started over, also with another policy, each in a release after which ordinary runs
 * go on, with a fact that looks the table up. Worlds share a table and its contract, and have keys and rows of their own.
 */
const SCHEMA = 'changing_test';
const WORLDS = Number(process.env['OUVRAGE_WORLDS'] ?? 200);
const SEED = Number(process.env['OUVRAGE_SEED'] ?? 0);
const TOGETHER = 20;
const STEPS = 7;
jest.setTimeout(1_800_000);
scratch(SCHEMA);
let client: pg.Client;
beforeAll(async () => {
  client = new pg.Client(Config.fromEnvironment().warehouse.production);
  await client.connect();
  await client.query(`set search_path = ${SCHEMA}; set timezone = 'UTC'; set synchronous_commit = off`);
});
afterAll(() => client.end());
beforeEach(async () => {
  const { rows } = await client.query<{ name: string }>(
    `select quote_ident(relname) as name from pg_class where relnamespace = '${SCHEMA}'::regnamespace and relkind = 'r'`,
  );
  if (rows.length) await client.query(`drop table ${rows.map((r) => r.name).join(', ')} cascade`);
});

const WIDER = ['smallint', 'integer', 'bigint', 'numeric', 'text'];
const KEY_WIDER = ['smallint', 'integer', 'bigint'];
const COLUMNS_OF_SOURCE = 7;
const VALUES: readonly Value[] = ['1', '2', '3', null];

interface Column extends ModelColumn {
  readonly name: string;
  readonly type: string;
  readonly onChange: OnChange;
  readonly was?: string;
}

/** The contract of the table, as it is. */
interface Contract {
  readonly table: string;
  readonly tableWas?: string;
  readonly key: Omit<Column, 'onChange' | 'id'>;
  readonly columns: readonly Column[];
}

const VARIANTS: readonly (readonly [string, readonly Rules[]])[] = [
  ['merge', ['keep', 'delete', 'flag'].map((missing) => ({ policy: 'merge', missing }) as Rules)],
  ['history', ['keep', 'close'].map((missing) => ({ policy: 'history', missing }) as Rules)],
  ['events', [{ policy: 'events', missing: 'keep' }]],
  ['append', [{ policy: 'append', missing: 'keep' }]],
  ['dated', [{ policy: 'dated', missing: 'keep' }]],
  ['rebuild', [{ policy: 'rebuild', missing: 'keep' }]],
];

const isLookedUp = ({ policy }: Rules) => policy !== 'append' && policy !== 'dated';
const isHistory = ({ policy }: Rules) => policy === 'history' || policy === 'events';

/** The files of the project at one time. */
function filesOf(rules: Rules, { table, tableWas, key, columns }: Contract): Record<string, string> {
  const was = (name: string | undefined) => (name === undefined ? [] : [`was '${name}'`]);
  const optionsOf = (list: readonly string[]) => (list.length ? ` options (${list.join(', ')})` : '');
  const lines = [
    ...(isLookedUp(rules) ? [`id bigint options (role 'surrogate key') primary key`] : []),
    `${key.name} ${key.type}${optionsOf(was(key.was))} not null${['merge', 'rebuild'].includes(rules.policy) ? ' unique' : ''}`,
    ...columns.map(
      (c) =>
        `${c.name} ${c.type}${optionsOf([...(isHistory(rules) ? [`on_change '${c.onChange}'`] : []), ...was(c.was)])}`,
    ),
    ...(rules.missing === 'flag' ? [`gone boolean options (role 'deleted flag') not null`] : []),
    ...(isHistory(rules)
      ? [
          `valid_from timestamptz options (role 'valid from') not null`,
          `valid_to timestamptz options (role 'valid to')`,
        ]
      : []),
    ...(rules.policy === 'append' ? ['at timestamptz not null'] : []),
    ...(rules.policy === 'dated'
      ? [`as_of date options (role 'as of') not null`, `is_current boolean options (role 'current flag')`]
      : []),
  ];
  const load: Record<Rules['policy'], string> = {
    merge: `load = merge, business_key = '${key.name}', missing_rows = ${rules.missing}, empty = allow`,
    history: `load = history, business_key = '${key.name}', missing_rows = ${rules.missing}, empty = allow`,
    events: `load = history, business_key = '${key.name}', effective_from = 'at', order_within = 'seq'`,
    append: `load = append, watermark = 'at'`,
    dated: `load = dated`,
    rebuild: `load = rebuild, business_key = '${key.name}'`,
  };
  const extra: Partial<Record<Rules['policy'], string>> = { events: ', at, seq', append: ', at', dated: ', as_of' };
  const asked = [`key::${key.type} as ${key.name}`, ...columns.map((c) => `c${c.id}::${c.type} as ${c.name}`)].join(
    ', ',
  );
  const more = tableWas === undefined ? '' : `, was = 'core.${tableWas}'`;
  return {
    'layers.sql': 'create schema landing; create schema core;',
    'sources/s.sql': `create server s foreign data wrapper postgres_fdw;
create foreign table landing.src (key integer, ${Array.from({ length: COLUMNS_OF_SOURCE }, (_, i) => `c${i} text`).join(', ')}, at timestamptz, seq integer, as_of date) server s;
create foreign table landing.calls (call_no integer, member integer, at timestamptz) server s;`,
    [`core/${table}.sql`]: `create table core.${table} (${lines.join(',\n')}) with (${load[rules.policy]}${more});\nselect ${asked}${extra[rules.policy] ?? ''} from landing.src;`,
    ...(isLookedUp(rules)
      ? {
          'core/f.sql': `create table core.f (call_no integer primary key, member ${key.type}, at timestamptz, id bigint options (looked_up_by 'member'${isHistory(rules) ? ", at 'at'" : ''}) not null references core.${table} (id))
with (load = merge, business_key = 'call_no');\nselect call_no, member::${key.type} as member, at from landing.calls;`,
        }
      : {}),
  };
}

type Die = ReturnType<typeof dice>;

interface Change {
  readonly contract: Contract;
  /** What a release is told besides. */
  readonly treatment?: 'correct' | 'start over';
  /** Of another policy. */
  readonly rules?: Rules;
}

/** One change of a contract. */
function changed(rules: Rules, before: Contract, die: Die, count: number): Change {
  // What was renamed is so by now.
  const { tableWas: _, ...settled } = before;
  const plain = (c: Column): Column => ({ id: c.id, name: c.name, type: c.type, onChange: c.onChange });
  const now: Contract = {
    ...settled,
    key: { name: before.key.name, type: before.key.type },
    columns: before.columns.map(plain),
  };
  const some = die.below(now.columns.length);
  const with_ = (change: (c: Column) => Column): Contract => ({
    ...now,
    columns: now.columns.map((c, i) => (i === some ? change(c) : c)),
  });
  const next = (ladder: readonly string[], type: string) =>
    ladder[Math.min(ladder.length - 1, ladder.indexOf(type) + 1 + die.below(2))]!;
  switch (die.below(isHistory(rules) ? 11 : 9)) {
    case 0:
      return { contract: with_((c) => ({ ...c, type: next(WIDER, c.type) })) };
    case 1: {
      const free = Array.from({ length: COLUMNS_OF_SOURCE }, (__, id) => id).filter(
        (id) => !now.columns.some((c) => c.id === id),
      );
      const id = free[die.below(Math.max(1, free.length))];
      if (id === undefined) return { contract: now };
      const column: Column = {
        id,
        name: `n${count}`,
        type: 'integer',
        onChange: (['version', 'overwrite', 'keep'] as const)[die.below(3)]!,
      };
      return { contract: { ...now, columns: [...now.columns.slice(0, some), column, ...now.columns.slice(some)] } };
    }
    case 2:
      return {
        contract: now.columns.length === 1 ? now : { ...now, columns: now.columns.filter((__, i) => i !== some) },
      };
    case 3:
      return { contract: with_((c) => ({ ...c, name: `r${count}`, was: c.name })) };
    case 4:
      return { contract: { ...now, key: { ...now.key, type: next(KEY_WIDER, now.key.type) } } };
    case 5:
      return { contract: { ...now, key: { ...now.key, name: `k${count}`, was: now.key.name } } };
    case 6:
      return { contract: { ...now, table: `t${count}`, tableWas: now.table } };
    case 7:
      return {
        contract: {
          ...with_((c) => ({ ...c, name: `b${count}`, type: next(WIDER, c.type), was: c.name })),
          key: { name: `k${count}`, type: next(KEY_WIDER, now.key.type), was: now.key.name },
        },
      };
    case 8: {
      // Another policy starts over, too.
      const others = VARIANTS.flatMap(([, variants]) => variants).filter(
        (other) => isLookedUp(other) === isLookedUp(rules),
      );
      if (die.below(2) === 0)
        return { contract: now, treatment: 'start over', rules: others[die.below(others.length)]! };
      return { contract: now, ...(rules.policy === 'rebuild' ? {} : { treatment: 'start over' as const }) };
    }
    case 9:
      return { contract: with_((c) => ({ ...c, onChange: c.onChange === 'version' ? 'overwrite' : 'version' })) };
    default:
      return { contract: now, ...(rules.policy === 'history' ? { treatment: 'correct' as const } : {}) };
  }
}

const keysOf = Array.from({ length: TOGETHER }, (_, world) => [1, 2, 3].map((k) => world * 10 + k)).flat();

/** What the sources say before a load. @param told all events so far, of which some are told again @param all whether all of them are */
function sayings(rules: Rules, die: Die, step: number, told: Said[], all: boolean): Said[] {
  const values = () => new Map(Array.from({ length: COLUMNS_OF_SOURCE }, (_, id) => [id, die.pick(VALUES)] as const));
  const said = keysOf.flatMap((key): Said[] => {
    if (die.below(3) === 0) return [];
    const at = rules.policy === 'append' ? hour(step * 2 + die.below(4)) : hour(die.below(40));
    return [{ key, values: values(), at, seq: told.length * 1000 + key, asOf: `2026-01-0${1 + die.below(5)}` }];
  });
  if (rules.policy === 'dated') {
    // One date a load, of all worlds: a date is replaced as a whole.
    const asOf = `2026-01-0${1 + die.below(5)}`;
    return said.map((s) => ({ ...s, asOf }));
  }
  if (rules.policy !== 'events') return said;
  const again = told.filter(() => all || die.below(3) === 0);
  told.push(...said);
  return [...said, ...again];
}

describe.each(VARIANTS)('%s', (_, variants) => {
  const batches = Array.from({ length: Math.max(1, Math.ceil(WORLDS / TOGETHER)) }, (__, i) => SEED + i);
  test.each(batches)('seed %i', async (seed) => {
    let rules = variants[seed % variants.length]!;
    const die = dice(seed * 7 + 11);
    const releases = new Releases(client, SCHEMA);
    let model = new ModelTable(rules);
    let contract: Contract = {
      table: 't',
      key: { name: 'k', type: 'smallint' },
      columns: [0, 1, 2].map((id) => ({
        id,
        name: `c${id}`,
        type: 'smallint',
        onChange: (['version', 'overwrite', 'version'] as const)[id]!,
      })),
    };
    const told: Said[] = [];
    const numbers = new Map<string, number>();
    const facts = new Map<number, { member: number; at: string }>();
    const history: string[] = [];
    for (let step = 0; step < STEPS; step++) {
      const before = new Set(contract.columns.map((c) => c.id));
      const change: Change = step === 0 ? { contract } : changed(rules, contract, die, step);
      const { treatment } = change;
      contract = change.contract;
      if (change.rules) [rules, model] = [change.rules, new ModelTable(change.rules)];
      history.push(JSON.stringify({ ...rules, treatment, ...contract }));
      for (const isRelease of [true, false]) {
        const time = hour(100 + step * 2 + (isRelease ? 0 : 1));
        const said = sayings(rules, die, step, told, isRelease);
        await fillSources(said);
        const calls = keysOf
          .filter(() => die.below(3) > 0)
          .map((no) => ({ no, member: no - (no % 10) + 1 + die.below(4), at: hour(die.below(140)) }));
        await fill(
          client,
          ['call_no', 'member', 'at'],
          calls.map((c) => ({ call_no: String(c.no), member: String(c.member), at: c.at })),
          ['integer', 'integer', 'timestamptz'],
          'calls',
        );
        const treatments: Treatments = treatment && isRelease ? { [`core.${contract.table}`]: treatment } : {};
        try {
          await (isRelease ? releases.release(filesOf(rules, contract), time, treatments) : releases.run(time));
        } catch (error) {
          throw new Error(`seed ${seed}: ${(error as Error).message}\n${history.join('\n')}`, { cause: error });
        }
        if (isRelease && treatment === 'start over') model.startOver();
        if (isRelease) model.change(contract.columns);
        const added = new Set(
          isRelease && step > 0 && treatment !== 'start over'
            ? contract.columns.map((c) => c.id).filter((id) => !before.has(id))
            : [],
        );
        model.load(said, contract.columns, time, added, isRelease && treatment === 'correct');
        for (const c of calls) facts.set(c.no, c);
        await holds({ rules, contract, model, numbers, facts, seed, history });
      }
    }
  });
});

function fillSources(said: readonly Said[]): Promise<void> {
  const names = ['key', ...Array.from({ length: COLUMNS_OF_SOURCE }, (_, i) => `c${i}`), 'at', 'seq', 'as_of'];
  const types = [
    'integer',
    ...Array.from({ length: COLUMNS_OF_SOURCE }, () => 'text'),
    'timestamptz',
    'integer',
    'date',
  ];
  const rows = said.map((s) => ({
    key: String(s.key),
    ...Object.fromEntries([...s.values].map(([id, v]) => [`c${id}`, v])),
    at: s.at,
    seq: String(s.seq),
    as_of: s.asOf,
  }));
  return fill(client, names, rows, types);
}

interface Held {
  readonly rules: Rules;
  readonly contract: Contract;
  readonly model: ModelTable;
  /** Whom each number was given to, for ever. */
  readonly numbers: Map<string, number>;
  readonly facts: ReadonlyMap<number, { member: number; at: string }>;
  readonly seed: number;
  readonly history: readonly string[];
}

/** The table has its model's rows, its numbers mean whom they always meant, and facts hold the numbers of the rows that they mean. */
async function holds({ rules, contract, model, numbers, facts, seed, history }: Held): Promise<void> {
  const { table, key, columns } = contract;
  const [from, to] = isHistory(rules)
    ? ['valid_from', 'valid_to']
    : [rules.policy === 'append' ? 'at' : rules.policy === 'dated' ? 'as_of' : 'null', 'null'];
  const id = isLookedUp(rules) ? 'id' : 'null';
  const items = [
    `${id}::text as id`,
    `${key.name}::text as key`,
    ...columns.map((c) => `${c.name}::text as c${c.id}`),
    `${from}::text as from`,
    `${to}::text as to`,
  ];
  const { rows } = await client.query<Record<string, Value>>(
    `select ${items.join(', ')}, ${rules.missing === 'flag' ? 'gone' : 'false'}::text as flag from ${table} ${isLookedUp(rules) ? 'where id <> 0' : ''}`,
  );
  const text = (r: Pick<ModelRow, 'key' | 'from' | 'to' | 'flag'>, value: (id: number) => Value) =>
    [r.key, ...columns.map((c) => value(c.id) ?? 'null'), r.from ?? 'null', r.to ?? 'null', r.flag].join(' ');
  const has = rows
    .map((r) =>
      text(
        { key: Number(r['key']), from: r['from']!, to: r['to']!, flag: r['flag'] === 'true' },
        (c) => r[`c${c}`] ?? null,
      ),
    )
    .sort();
  const should = model.rows.map((r) => text(r, (c) => r.values.get(c) ?? null)).sort();
  const context = { seed, history };
  expect({ ...context, rows: has }).toEqual({ ...context, rows: should });
  if (!isLookedUp(rules)) return;
  expect(new Set(rows.map((r) => r['id'])).size).toBe(rows.length);
  for (const r of rows) {
    const whom = numbers.get(r['id']!) ?? Number(r['key']);
    expect({ ...context, number: r['id'], means: Number(r['key']) }).toEqual({
      ...context,
      number: r['id'],
      means: whom,
    });
    numbers.set(r['id']!, whom);
  }
  const found = await client.query<{ call_no: number; id: string }>('select call_no, id::text from f');
  const wanted = ({ member, at }: { member: number; at: string }): string => {
    const mine = rows
      .filter((r) => Number(r['key']) === member)
      .sort((a, b) => ((a['from'] ?? '') < (b['from'] ?? '') ? -1 : 1));
    if (!isHistory(rules)) return mine[0]?.['id'] ?? '0';
    const valid = mine.find((r) => r['from']! <= at && (r['to'] === null || at < r['to']!));
    return (valid ?? (mine[0] && at < mine[0]['from']! ? mine[0] : undefined))?.['id'] ?? '0';
  };
  expect({ ...context, facts: Object.fromEntries(found.rows.map((r) => [r.call_no, r.id])) }).toEqual({
    ...context,
    facts: Object.fromEntries([...facts].map(([no, fact]) => [no, wanted(fact)])),
  });
}
