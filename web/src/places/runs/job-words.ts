import type { JobEntry } from '@ouvrage/api/job';

/** What starts a job: `weekdays at 04:30, Paris time; after early`. */
export function startWords({ words, after, onDelivery }: Pick<JobEntry, 'words' | 'after' | 'onDelivery'>): string {
  const parts = [
    ...(words === null ? [] : [words]),
    ...(after.length ? [`after ${after.join(' or ')}`] : []),
    ...(onDelivery.length ? [`when a file is delivered for ${onDelivery.join(' or ')}`] : []),
  ];
  return parts.join('; ') || 'by hand';
}
