import type { Tolerance } from '../language/tolerance.js';

export type Verdict = 'holds' | 'advisory' | 'broken' | 'not run';

/**
 * The verdict on a check.
 * @param atFault rows at fault
 * @param total rows looked at; a share is tolerated only where it is known
 */
export function verdictOf(
  check: { readonly advisory: boolean; readonly tolerate?: Tolerance },
  atFault: number,
  total: number | undefined,
): Verdict {
  if (atFault === 0) return 'holds';
  return check.advisory || tolerated(check.tolerate, atFault, total) ? 'advisory' : 'broken';
}

function tolerated(tolerance: Tolerance | undefined, atFault: number, total: number | undefined): boolean {
  switch (tolerance?.kind) {
    case undefined:
      return false;
    case 'count':
      return atFault <= tolerance.count;
    case 'share':
      return total !== undefined && atFault <= tolerance.share * total;
  }
}

/** The worst of several verdicts: broken, then advisory, then not run, then holds. */
export function worst(verdicts: Iterable<Verdict>): Verdict | undefined {
  const order: readonly Verdict[] = ['holds', 'not run', 'advisory', 'broken'];
  let rank = -1;
  for (const verdict of verdicts) rank = Math.max(rank, order.indexOf(verdict));
  return order[rank];
}
