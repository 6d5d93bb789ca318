import Sequencer from '@jest/test-sequencer';

/** Seconds that test files take, measured; others take a few. Shards are balanced by them. */
const SECONDS = {
  'fuzz.test.ts': 400,
  'crash.test.ts': 62,
  'crash-under-way.test.ts': 42,
  'month.test.ts': 38,
  'contract-changes.test.ts': 29,
  'running.test.ts': 27,
  'inferred.test.ts': 25,
  'full-disk.test.ts': 24,
  'delivery.test.ts': 23,
  'traced.test.ts': 20,
  'source.test.ts': 19,
  'upgrade.test.ts': 18,
  'script.test.ts': 17,
  'release-completion.test.ts': 15,
  'odd-values.test.ts': 15,
  'policies.test.ts': 15,
  'looking.test.ts': 14,
  'application.test.ts': 14,
  'routes.test.ts': 13,
  'look-ups.test.ts': 12,
  'shapes.test.ts': 12,
  'preview.test.ts': 11,
  'changing.test.ts': 11,
  'names.test.ts': 10,
  'contracts-table.test.ts': 10,
};
const nameOf = (test) => test.path.slice(test.path.lastIndexOf('/') + 1);
const secondsOf = (test) => SECONDS[nameOf(test)] ?? 6;

/** The month moves the harbour's clock, on whose first day the other tests rely, and made-up requests do anything: they come last. */
const LAST = ['month.test.ts', 'fuzz.test.ts'];
export default class Balanced extends Sequencer {
  sort(tests) {
    return [...super.sort(tests)].sort((a, b) => LAST.indexOf(nameOf(a)) - LAST.indexOf(nameOf(b)));
  }

  /** Each file, the longest first, goes to the shard that has least so far. */
  shard(tests, { shardIndex, shardCount }) {
    const shards = Array.from({ length: shardCount }, () => ({ seconds: 0, tests: [] }));
    for (const test of [...tests].sort((a, b) => secondsOf(b) - secondsOf(a) || (a.path < b.path ? -1 : 1))) {
      const least = shards.reduce((best, s) => (s.seconds < best.seconds ? s : best));
      least.tests.push(test);
      least.seconds += secondsOf(test);
    }
    return shards[shardIndex - 1].tests;
  }
}
