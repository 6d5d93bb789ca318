import { describe, expect, test } from '@jest/globals';
import type { AnatomyLine, AnatomyStep } from '@ouvrage/api/anatomy';
import { figureOf, railOf, stepAt, withLine, type Counting } from './strip';
import { saidOf } from './words';

const step = (id: string, of: Partial<AnatomyStep> = {}): AnatomyStep => ({
  id,
  kind: 'source',
  label: id,
  depth: 0,
  inputs: [],
  start: 0,
  end: 10,
  known: {},
  looks: [],
  ...of,
});

const STEPS = [
  step('a', { start: 0, end: 1 }),
  step('b', { start: 2, end: 3 }),
  step('join', { kind: 'join', inputs: ['a', 'b'], start: 0, end: 5, join: 'inner', table: 'core.b' }),
  step('c', { start: 6, end: 7 }),
  step('stack', { kind: 'stack', inputs: ['join', 'c'], rowsOf: ['join', 'c'], start: 0, end: 9 }),
  step('result', { kind: 'result', inputs: ['stack'], rowsOf: ['stack'] }),
];
const BEGUN: AnatomyLine = {
  kind: 'steps',
  side: 'here',
  steps: STEPS,
  asOf: '2026-03-01T10:00:00.000Z' as never,
  seconds: 0,
  isHeld: false,
};
const figures = (...list: readonly (readonly [string, string, number])[]): AnatomyLine => ({
  kind: 'figures',
  side: 'here',
  figures: list.map(([of, figure, value]) => ({ step: of, figure: figure as 'rows', value })),
});
const counted = (...lines: readonly AnatomyLine[]): Counting =>
  [BEGUN, ...lines].reduce<Counting>((all, line) => withLine(all, line), {});

describe('a counting', () => {
  test('gathers figures as they come; rows may be those of other steps', () => {
    const { here } = counted(figures(['join', 'rows', 4], ['join', 'left', 5]), figures(['c', 'rows', 3]));
    expect(STEPS.map((s) => figureOf(here!, s, 'rows'))).toEqual([undefined, undefined, 4, 3, 7, 7]);
    expect(figureOf(here!, STEPS[2]!, 'left')).toBe(5);
  });
  test('begins anew where a swap waited, and keeps what it has where it is stopped', () => {
    expect(counted(figures(['c', 'rows', 3]), { kind: 'again' })).toEqual({});
    const stopped = counted(figures(['c', 'rows', 3]), { kind: 'stopped', error: { message: 'enough' } });
    expect([stopped.stopped?.message, figureOf(stopped.here!, STEPS[3]!, 'rows')]).toEqual(['enough', 3]);
  });
  test('of production stands beside', () => {
    const both = counted(
      { ...BEGUN, side: 'production' } as AnatomyLine,
      { ...figures(['c', 'rows', 1]), side: 'production' } as AnatomyLine,
      figures(['c', 'rows', 2]),
    );
    expect([figureOf(both.here!, STEPS[3]!, 'rows'), figureOf(both.production!, STEPS[3]!, 'rows')]).toEqual([2, 1]);
  });
});

test('a selection chooses the innermost step around it', () => {
  expect(
    [
      [2, 3],
      [4, 5],
      [8, 9],
      [9, 10],
    ].map(([from, to]) => stepAt(STEPS, from!, to!)?.id),
  ).toEqual(['b', 'join', 'stack', undefined]);
});

test('steps stand on lines that meet where one reads several', () => {
  expect(
    railOf(STEPS).map(
      ({ lane, joins, passes, hasAbove, hasBelow }) =>
        `${lane} <${joins.join()} |${passes.join()} ${hasAbove ? '↑' : ''}${hasBelow ? '↓' : ''}`,
    ),
  ).toEqual(['0 < | ↓', '1 < |0 ↓', '0 <1 | ↑↓', '1 < |0 ↓', '0 <1 | ↑↓', '0 < | ↑']);
});

describe('what is said about a step', () => {
  const said = (of: AnatomyStep, all: Readonly<Record<string, number>>, more: readonly AnatomyLine[] = []) => {
    const before = step('before');
    const begun = { ...BEGUN, steps: [before, { ...of, inputs: ['before'] }] } as AnatomyLine;
    const lines = [
      begun,
      figures(['before', 'rows', 100], ...Object.entries(all).map(([k, v]) => [of.id, k, v] as const)),
      ...more,
    ];
    const { here } = lines.reduce<Counting>((c, line) => withLine(c, line), {});
    return saidOf(here!, here!.steps[1]!).map((s) => `${s.verdict ? `${s.verdict}: ` : ''}${s.text}`);
  };
  const join = (type: AnatomyStep['join']) => step('j', { kind: 'join', join: type!, table: 'core.b' });
  const JOINED = { leftSeveral: 0, leftAlone: 0, leftMost: 1, rightAlone: 0, rightSeveral: 0 };
  test.each<[string, AnatomyStep, Readonly<Record<string, number>>, readonly string[]]>([
    ['one to one', join('inner'), JOINED, ['one to one']],
    ['a look-up', join('left'), { ...JOINED, rightSeveral: 9 }, ['many to one']],
    [
      'keys that multiply',
      join('left'),
      { ...JOINED, leftSeveral: 12, leftKeys: 6, leftMost: 2 },
      ['broken: multiplies: 6 keys, up to 2 rows each'],
    ],
    [
      'rows that multiply',
      join('left'),
      { ...JOINED, leftSeveral: 1, leftMost: 3 },
      ['broken: multiplies: 1 row meets several, up to 3 rows each'],
    ],
    [
      'an inner join that loses',
      join('inner'),
      { ...JOINED, leftAlone: 4 },
      ['advisory: loses 4 rows without a partner'],
    ],
    [
      'a left join keeps',
      join('left'),
      { ...JOINED, leftAlone: 1, rightAlone: 40 },
      ['1 row without a partner', '40 of core.b unused'],
    ],
    [
      'null keys',
      join('left'),
      { ...JOINED, leftAlone: 1, leftNull: 1 },
      ['1 row without a partner', '1 row with a null key'],
    ],
    ['a join that is not counted yet', join('left'), {}, []],
    ['a filter', step('f', { kind: 'filter' }), { rows: 87, unknown: 2 }, ['13 rows filtered out, 2 unknown']],
    [
      'nulls in a list',
      step('f', { kind: 'filter' }),
      { rows: 0, unknown: 100, listNulls: 1 },
      ['broken: 1 null in the list: nothing can be known to be outside of it', '100 rows filtered out, 100 unknown'],
    ],
    [
      'groups',
      step('g', { kind: 'group' }),
      { rows: 41, groups: 41, largest: 4 },
      ['100 rows in 41 groups, largest 4'],
    ],
    ['partitions', step('w', { kind: 'window' }), { groups: 1, largest: 100 }, ['1 partition, largest 100']],
    ['a limit', step('l', { kind: 'limit' }), { rows: 10 }, ['90 rows cut off']],
    [
      'what cannot be counted',
      step('r', { kind: 'filter', why: 'random() returns something else each time it is called' }),
      {},
      ['not counted alone: random() returns something else each time it is called'],
    ],
  ])('%s', (_, of, all, expected) => expect(said(of, all)).toEqual(expected));
  test('a failure', () =>
    expect(
      said(step('f', { kind: 'filter' }), {}, [
        { kind: 'failed', side: 'here', steps: ['f'], error: { message: 'division by zero' } },
      ]),
    ).toEqual(['broken: not counted: division by zero']));
  test.each<[readonly (number | null)[], readonly string[]]>([
    [[0, 0], ['2 checks of the contract hold']],
    [[6, null], ['broken: no is the key: 6 rows at fault']],
    [[0, 1], ['advisory: flag is never null: 1 row at fault']],
  ])('checks of the result: %j', (faults, expected) =>
    expect(
      said(step('r', { kind: 'result' }), {}, [
        {
          kind: 'checks',
          side: 'here',
          checks: [
            { name: 'no is the key', isAdvisory: false, atFault: faults[0]! },
            { name: 'flag is never null', isAdvisory: true, atFault: faults[1]! },
          ],
        },
      ]),
    ).toEqual(expected),
  );
});
