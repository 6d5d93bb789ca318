import { describe, expect, test } from '@jest/globals';
import type { Station } from '@ouvrage/core/lineage';
import type { TraceAnswer } from '../../worker/protocol';
import { wayGraph, type Direction } from './way-graph';

const refOf = (id: string) => {
  const [layer, table, column] = id.split('.');
  return layer === 'gone' || column === undefined ? undefined : { table: `${layer}.${table}`, column };
};
const station = (id: string, value: string[] = [], influence: string[] = [], rows: string[] = []): Station => ({
  ...refOf(id)!,
  id,
  kind: 'copied',
  distance: 0,
  expressions: [],
  value,
  influence,
  rows,
});
const TRACE: TraceAnswer = {
  back: [
    station('m.t.total', ['c.f.amount'], ['c.f.paid'], ['c.f.*', 'c.d.key', 'gone.x.y']),
    station('c.f.amount', ['l.i.amount', 'l.i.rate'], [], ['l.i.amount']),
    station('l.i.amount'),
    station('l.i.rate'),
  ],
  values: [refOf('x.r.total')!, refOf('x.r.double')!],
  forward: [station('x.r.total', ['m.t.total', 'm.t.other']), station('x.r.double', ['x.r.total'])],
  influenced: [],
  rows: [],
};
const drawn = (direction: Direction, trace = TRACE) => {
  const { tables, edges } = wayGraph(trace, direction, refOf);
  return {
    tables: tables.map((t) => `${t.table}: ${t.columns.map((c) => `${c.column} ${c.role}`).join(', ')}`),
    edges: edges.map(
      (e) => `${e.from.table}.${e.from.column} ${e.kind === 'value' ? '→' : '⇢'} ${e.to.table}.${e.to.column}`,
    ),
  };
};

describe('what is drawn of a column’s way', () => {
  test('upstream: what gives it, what decides it, and nothing of what is not there', () => {
    expect(drawn('upstream')).toEqual({
      tables: [
        'm.t: total chosen',
        'c.f: paid influence, amount value',
        'c.d: key influence',
        'l.i: amount value, rate value',
      ],
      edges: [
        'c.f.amount → m.t.total',
        'c.f.paid ⇢ m.t.total',
        'c.d.key ⇢ m.t.total',
        'l.i.amount → c.f.amount',
        'l.i.rate → c.f.amount',
      ],
    });
  });
  test('downstream: what takes its value, from what is on the way only', () => {
    expect(drawn('downstream')).toEqual({
      tables: ['m.t: total chosen', 'x.r: total value, double value'],
      edges: ['m.t.total → x.r.total'],
    });
  });
  test('both', () => {
    const { tables, edges } = drawn('both');
    expect([tables.length, edges.length]).toEqual([5, 6]);
  });
  test('nothing of a column that is not there', () => {
    expect(drawn('both', { ...TRACE, back: [] })).toEqual({ tables: [], edges: [] });
  });
});
