import Sequencer from '@jest/test-sequencer';

/** The month moves the harbour's clock, on whose first day the other tests rely: it comes last. */
export default class LastMonth extends Sequencer {
  sort(tests) {
    const isLast = (test) => Number(test.path.endsWith('month.test.ts'));
    return [...super.sort(tests)].sort((a, b) => isLast(a) - isLast(b));
  }
}
