import { describe, expect, test } from '@jest/globals';
import type { CheckOutcome } from '../load/check-outcome.js';
import type { Run, RunStep } from './run.entities.js';
import { until } from '../testing-process.js';
import { StepJournal } from './step-journal.js';

/** A journal over a database that only keeps what it was asked to write. */
function journalOver(failsAt?: number) {
  const written: { results: object[]; rows: Record<string, unknown>[] }[] = [];
  const told: number[] = [];
  let attempts = 0;
  let going = 0;
  let most = 0;
  const manager = {
    connection: {
      getMetadata: ({ name }: { name: string }) => ({
        tablePath: name,
        findColumnWithPropertyName: (property: string) => ({
          databaseName: property.replaceAll(/[A-Z]/g, (letter) => `_${letter.toLowerCase()}`),
        }),
      }),
    },
    query: async (_: string, values: [string, string]) => {
      most = Math.max(most, ++going);
      await new Promise((resolve) => setTimeout(resolve, 5));
      going--;
      if (attempts++ === failsAt) throw new Error('the disk is full');
      const [rows, results] = values.map((json) => JSON.parse(json) as Record<string, unknown>[]);
      written.push({ rows: rows!, results: results! });
    },
  };
  const journal = new StepJournal(
    { manager } as never,
    { tell: ({ run }: { run: number }) => Promise.resolve(void told.push(run)) } as never,
  );
  return { journal, written, told, most: () => most, attempts: () => attempts };
}
const run = (id = 1) => ({ id, environment: 'production' }) as Run;
const step = (id: number) => ({ id, position: id, state: 'waiting' }) as RunStep;
const outcome = (id: string) =>
  ({ id, table: 't', verdict: 'holds', atFault: '0', total: '1', sql: 'select', rows: null }) as CheckOutcome;

describe('what becomes of steps', () => {
  test('is written together when it comes together, checks with their step', async () => {
    const { journal, written, told } = journalOver();
    const steps = [step(1), step(2), step(3)];
    for (const s of steps) journal.begin(run(), s);
    for (const s of steps.slice(0, 2))
      journal.end(run(), s, { state: 'done', rowsIn: '7', statements: [] }, [outcome(`check ${s.id}`)]);
    await journal.written(run());
    expect(written).toHaveLength(1);
    expect(written[0]!.rows).toMatchObject([
      {
        id: 1,
        state: 'done',
        rows_in: '7',
        statements: [],
        started_at: expect.any(String),
        finished_at: expect.any(String),
      },
      {
        id: 2,
        state: 'done',
        rows_in: '7',
        statements: [],
        started_at: expect.any(String),
        finished_at: expect.any(String),
      },
      { id: 3, state: 'running', rows_in: null, statements: [], started_at: expect.any(String), finished_at: null },
    ]);
    expect(written[0]!.results).toMatchObject([
      { check_id: 'check 1', environment: 'production', step: 1, verdict: 'holds' },
      { check_id: 'check 2', environment: 'production', step: 2, verdict: 'holds' },
    ]);
    expect(told).toEqual([1]);
  });

  test('is written by itself after a moment', async () => {
    const { journal, written } = journalOver();
    journal.begin(run(), step(1));
    await until(
      async () => written.length,
      (n) => n > 0,
    );
    expect(written.map((w) => w.rows.map((r) => r['state']))).toEqual([['running']]);
  });

  test('is written in the order in which it came, one writing of a run at a time', async () => {
    const { journal, written, most } = journalOver();
    const one = step(1);
    journal.begin(run(), one);
    const first = journal.written(run());
    journal.end(run(), one, { state: 'failed' });
    await Promise.all([first, journal.written(run())]);
    expect(written.map((w) => w.rows[0]!['state'])).toEqual([expect.stringMatching(/running|failed/), 'failed']);
    expect(most()).toBe(1);
  });

  test('has been written when there is nothing to wait for', async () => {
    const { journal, written } = journalOver();
    await journal.written(run());
    expect(written).toEqual([]);
  });

  test('that could not be written fails its run, and no other', async () => {
    const { journal, written, attempts } = journalOver(0);
    journal.begin(run(1), step(1));
    await until(
      async () => attempts(),
      (n) => n > 0,
    );
    journal.end(run(1), step(1), { state: 'done' });
    await expect(journal.written(run(1))).rejects.toThrow('the disk is full');
    journal.close(run(1));
    journal.begin(run(2), step(2));
    await journal.written(run(2));
    expect(written.flatMap((w) => w.rows.map((r) => r['id']))).toEqual([2]);
  });
});
