import type { Lateness } from '@ouvrage/api/source';
import { moment } from '../../shared/format';
import { OpenIncident } from '../../shared/open-incident';
import { Hint } from '../../shared/ui/hint';

/** Marks a source table that is late, says why it counts as late, and opens an incident of it. */
export function Late({ table, lateness }: { readonly table: string; readonly lateness: Lateness | null }) {
  if (!lateness?.late) return null;
  return (
    <>
      <Hint text={why(lateness)}>
        <span tabIndex={0} className="text-advisory-text">
          late
        </span>
      </Hint>
      <OpenIncident kind="source" subject={table} />
    </>
  );
}

function why({ since, allowed, learnedFrom }: Lateness): string {
  if (since === null) return 'Nothing was ever brought in.';
  const newest = `Its newest row is from ${moment(since)}`;
  return learnedFrom === null
    ? `${newest}; it may be ${allowed} old.`
    : `${newest}; usually it is at most ${allowed} old, as ${learnedFrom} days have shown.`;
}
