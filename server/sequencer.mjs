import Sequencer from '@jest/test-sequencer';

/** Seconds that test files take, measured; others take a few. Shards are balanced by them. */
const SECONDS = {
  'fuzz.test.ts': 200,
  'inferred.test.ts': 41,
  'month.test.ts': 37,
  'running.test.ts': 34,
  'crash.test.ts': 60,
  'source.test.ts': 27,
  'delivery.test.ts': 28,
  'application.test.ts': 22,
  'policies.test.ts': 22,
  'shapes.test.ts': 24,
  'routes.test.ts': 19,
  'contract-changes.test.ts': 27,
  'crash-under-way.test.ts': 70,
  'full-disk.test.ts': 25,
  'odd-values.test.ts': 12,
  'release-completion.test.ts': 15,
  'changing.test.ts': 15,
  'traced.test.ts': 19,
  'script.test.ts': 16,
  'upgrade.test.ts': 15,
  'look-ups.test.ts': 13,
  'names.test.ts': 13,
  'anatomy.test.ts': 14,
  'rename.test.ts': 8,
  'review.test.ts': 55,
  'two-servers.test.ts': 40,
  'past.test.ts': 75,
  'incidents.test.ts': 20,
  'watches.test.ts': 18,
  'checks-alone.test.ts': 13,
};
const nameOf = (test) => test.path.slice(test.path.lastIndexOf('/') + 1);
const secondsOf = (test) => SECONDS[nameOf(test)] ?? 6;

/** The month moves the harbour's clock, on whose first day the other tests rely, and made-up requests do anything: they come last. */
const LAST = ['month.test.ts', 'fuzz.test.ts'];
export default class Balanced extends Sequencer {
  /** By path: the same order on any machine, whatever ran before. */
  sort(tests) {
    return [...tests].sort((a, b) => LAST.indexOf(nameOf(a)) - LAST.indexOf(nameOf(b)) || (a.path < b.path ? -1 : 1));
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
