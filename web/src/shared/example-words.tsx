import type { ExampleState, ExampleVerdict } from '@ouvrage/api/example';
import type { Verdict } from '@ouvrage/core/check';
import { plural } from './format';
import { VerdictMark } from './marks';

const MARKS: Readonly<Record<ExampleVerdict, Verdict>> = {
  holds: 'holds',
  differs: 'broken',
  failed: 'broken',
  errors: 'broken',
  running: 'not run',
  'not run': 'not run',
};

const WORDS: Readonly<Record<ExampleVerdict, string>> = {
  holds: 'holds',
  differs: 'differs',
  failed: 'failed',
  errors: 'has errors',
  running: 'running …',
  'not run': 'not run',
};

/** What was found of an example, as a shape. */
export const ExampleMark = ({ verdict }: { verdict: ExampleVerdict }) => (
  <VerdictMark verdict={MARKS[verdict]} label={WORDS[verdict]} />
);

/** What was found of an example, in a few words. */
export function exampleWords({ verdict, outcome }: Pick<ExampleState, 'verdict' | 'outcome'>): string {
  if (verdict !== 'differs' || !outcome) return WORDS[verdict];
  const counted = (kind: 'differs' | 'missing' | 'extra', what: (n: number) => string) => {
    const n = outcome.rows.filter((r) => r.kind === kind).length;
    return n ? [`${plural(n, 'row')} ${what(n)}`] : [];
  };
  return [
    ...counted('differs', (n) => (n === 1 ? 'differs' : 'differ')),
    ...counted('missing', () => 'missing'),
    ...counted('extra', () => 'more than expected'),
  ].join(', ');
}
